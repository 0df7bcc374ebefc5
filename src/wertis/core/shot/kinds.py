"""All kinds of tracks, solutions, layers and cameras that a shot's file may hold: a kind is known once its module is imported, and is found by being here."""

from wertis.core.shot import cameras, dense, meshes, points

__all__ = ["cameras", "dense", "meshes", "points"]
