"""How a mesh goes along with the vertices that are put right by hand, beside the deformations of a general geometry library (libigl).

Its `harmonic` of order 2 is the bi-Laplacian deformation of M. Botsch and L. Kobbelt, An intuitive framework for real-time freeform modeling, SIGGRAPH
2004; its `arap` that of O. Sorkine and M. Alexa, As-rigid-as-possible surface modeling, SGP 2007. Both work on the triangles themselves, where ours works
on a smooth lattice, so that they agree about as far as triangles describe a smooth surface.
"""

import tempfile
import unittest
from pathlib import Path

import igl
import numpy as np

from tests.test_mesh import MASK
from tests.waves import REFERENCE, waved
from wertis.core.exchange import animated_mesh
from wertis.core.exchange.animated_mesh import AnimatedMesh
from wertis.core.geometry.mesh import Mesh, MeshMotion, laid
from wertis.core.repair.pegs import PeggedMotion, followed

FRAME = REFERENCE + 3


def bilaplacian(mesh: Mesh, fixed: np.ndarray, moves: np.ndarray) -> np.ndarray:
    """(V, 2) displacements of all vertices by libigl, of those `fixed` (n,) by moves (n, 2)."""
    flat = np.column_stack([mesh.vertices, np.zeros(len(mesh.vertices))])
    return np.asarray(igl.harmonic(flat, np.asarray(mesh.triangles, np.int64), fixed, np.asfortranarray(moves), 2))


def as_rigid_as_possible(mesh: Mesh, fixed: np.ndarray, places: np.ndarray) -> np.ndarray:
    """(V, 2) places of all vertices by libigl, of those `fixed` (n,) at places (n, 2)."""
    data = igl.ARAPData()
    data.max_iter = 200
    igl.arap_precomputation(np.asfortranarray(mesh.vertices), np.asarray(mesh.triangles, np.int64), 2, fixed.astype(np.int32), data)
    return np.asarray(igl.arap_solve(np.asfortranarray(places), data, np.asfortranarray(mesh.vertices)))


def lengths(vectors: np.ndarray) -> np.ndarray:
    return np.linalg.norm(vectors, axis=1)


class DeformationBesideAGeometryLibrary(unittest.TestCase):
    def setUp(self) -> None:
        self.mesh = Mesh(laid(MASK, 26))
        vertices = self.mesh.vertices
        middle = vertices.mean(0)
        self.inner = np.flatnonzero(lengths(vertices - middle) < 45)
        self.outer = np.setdiff1d(np.arange(len(vertices)), self.inner)
        self.peg = int(self.inner[np.argmin(lengths(vertices[self.inner] - middle))])
        self.assertGreater(len(self.inner), 8)

    def pegged(self, there: np.ndarray, seen: np.ndarray, pegs: dict[int, np.ndarray]) -> np.ndarray:
        """(V, 2) places of a mesh that was tracked to `there` (V, 2), of which `seen` (V,) was measured, once pegs are set."""
        none = np.zeros(len(there))
        motion = MeshMotion(REFERENCE, self.mesh, {REFERENCE: self.mesh.vertices, FRAME: there}, {REFERENCE: none, FRAME: none},
                            {REFERENCE: none + 1, FRAME: seen})
        return np.asarray(PeggedMotion(motion, {FRAME: pegs}).at(FRAME).places)  # type: ignore[union-attr]

    def test_followers_lie_where_the_surface_through_the_others_takes_them(self) -> None:
        true = waved(self.mesh.vertices, FRAME)
        given = true.copy()
        given[self.inner] += 30  # wherever they were: they follow
        ours = followed(self.mesh, given, self.inner)[self.inner]
        theirs = (self.mesh.vertices + bilaplacian(self.mesh, self.outer, (true - self.mesh.vertices)[self.outer]))[self.inner]
        self.assertGreater(lengths(true - self.mesh.vertices)[self.inner].max(), 8)  # pixels
        self.assertLess(lengths(ours - theirs).max(), 0.6)
        self.assertLess(lengths(ours - true[self.inner]).max(), lengths(theirs - true[self.inner]).max())

    def test_what_is_hidden_goes_along_with_its_peg_and_what_is_measured_stays(self) -> None:
        seen = np.ones(len(self.mesh.vertices))
        seen[self.inner] = 0
        move, there = np.array([6.0, -4.0]), waved(self.mesh.vertices, FRAME)
        ours = self.pegged(there, seen, {self.peg: there[self.peg] + move}) - there
        fixed = np.append(self.outer, self.peg)
        theirs = bilaplacian(self.mesh, fixed, np.vstack([np.zeros((len(self.outer), 2)), move]))
        np.testing.assert_allclose(ours[self.outer], 0, atol=1e-9)
        np.testing.assert_allclose(ours[self.peg], move, atol=1e-3)
        self.assertLess(lengths(ours - theirs).max(), 0.2 * np.hypot(*move))
        far = lengths(self.mesh.vertices[self.inner] - self.mesh.vertices[self.peg])
        others = far > 0
        self.assertGreater(np.corrcoef(lengths(ours)[self.inner][others], lengths(theirs)[self.inner][others])[0, 1], 0.98)

    def test_a_mesh_that_nothing_is_seen_of_turns_with_its_pegs_as_rigidly(self) -> None:
        angle, vertices = np.radians(25), self.mesh.vertices
        turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        turned = (vertices - vertices.mean(0)) @ turn.T + vertices.mean(0) + [12, 5]
        numbers = np.array([3, 40, 80])
        ours = self.pegged(vertices, np.zeros(len(vertices)), {int(k): turned[k] for k in numbers})
        np.testing.assert_allclose(ours, as_rigid_as_possible(self.mesh, numbers, turned[numbers]), atol=1e-6)

    def test_an_exported_mesh_is_read_as_the_same_triangles(self) -> None:
        places = {REFERENCE: self.mesh.vertices, FRAME: waved(self.mesh.vertices, FRAME)}
        height = MASK.shape[0]
        with tempfile.TemporaryDirectory() as name:
            mesh = AnimatedMesh((MASK.shape[1], height), 24.0, REFERENCE, self.mesh.vertices, self.mesh.triangles, places)
            files = animated_mesh.write_obj(Path(name) / "m.####.obj", mesh)
            vertices, texture, _, triangles, of_texture, _ = igl.readOBJ(str(files[1]))
        np.testing.assert_allclose(np.c_[vertices[:, 0], height - vertices[:, 1]], places[FRAME], atol=1e-4)
        np.testing.assert_allclose(texture[:, :2] * MASK.shape[::-1], np.c_[self.mesh.vertices[:, 0], height - self.mesh.vertices[:, 1]], atol=1e-2)
        np.testing.assert_array_equal(np.sort(triangles, axis=1), np.sort(self.mesh.triangles, axis=1))
        np.testing.assert_array_equal(triangles, of_texture)
