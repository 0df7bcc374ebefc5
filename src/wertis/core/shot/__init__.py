"""The document. New kinds of records are imported here, so that whoever opens a shot knows them."""

from wertis.core.shot import cameras as cameras
from wertis.core.shot import dense as dense
from wertis.core.shot import fills as fills
from wertis.core.shot import grades as grades
from wertis.core.shot import matte_alpha as matte_alpha
from wertis.core.shot import matte_edits as matte_edits
from wertis.core.shot import meshes as meshes
from wertis.core.shot import patches as patches
from wertis.core.shot import points as points
