"""The tool that drags vertices of a mesh: each that is moved is pegged on the frame in view."""

from wertis.app.tools import ScatteredPointsTool


class MeshTool(ScatteredPointsTool):
    """Drag vertices; Shift-click chooses several, Shift-drag those in a box, and they move together."""
