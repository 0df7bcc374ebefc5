"""The door for scripts: the whole program in few lines. The command line goes through it; docs/scripting.md has examples.

Everywhere: pixels, origin at the picture's top-left corner, x right, y down, the first pixel's centre at (0.5, 0.5); frames are the plate's own numbers.

Long work takes `progress`, called with an `Event` (frame, done, total, item, note) after each step, and with no frame and no item while something
between two steps goes on; and `stop`, a `threading.Event` that ends it soon when it is set; what was finished is kept. Errors are `WertisError`, and
say what to do.
"""

from wertis.scripting.camera import Camera as Camera
from wertis.scripting.mattes import DrawnMatte as DrawnMatte
from wertis.scripting.shot import Shot as Shot
from wertis.scripting.shot import open as open
from wertis.scripting.surface import Drift as Drift
from wertis.scripting.surface import Surface as Surface
from wertis.scripting.surface import TrackedPoint as TrackedPoint
from wertis.scripting.uses import Filled as Filled
from wertis.scripting.uses import Graded as Graded
from wertis.scripting.uses import Placed as Placed
