"""Reading a glTF file's JSON and numbers (Khronos, glTF 2.0, sections 3.6 and 4.4)."""

import base64
import json
import struct
from pathlib import Path

import numpy as np


class Gltf:
    """A file, .glb or .gltf with its numbers inside: `body` is its JSON."""

    def __init__(self, path: Path) -> None:
        data = path.read_bytes()
        if data[:4] == b"glTF":  # a header, a chunk of JSON, a chunk of numbers
            (length,) = struct.unpack_from("<I", data, 12)
            self.body, self._blob = json.loads(data[20:20 + length]), data[28 + length:]
        else:
            self.body = json.loads(data)
            self._blob = base64.b64decode(self.body["buffers"][0]["uri"].split(",", 1)[1])

    def values(self, number: int) -> np.ndarray:
        """(n, k) an accessor's numbers."""
        accessor = self.body["accessors"][number]
        view = self.body["bufferViews"][accessor["bufferView"]]
        wide = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}[accessor["type"]]
        kind = {5126: "<f4", 5125: "<u4"}[accessor["componentType"]]
        start = view.get("byteOffset", 0) + accessor.get("byteOffset", 0)
        return np.frombuffer(self._blob, kind, accessor["count"] * wide, start).reshape(-1, wide)
