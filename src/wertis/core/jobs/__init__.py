"""Long work. New kinds of motion are imported here, so that whoever tracks or measures knows them."""

from wertis.core.jobs import mesh_check as mesh_check
from wertis.core.jobs import mesh_tracking as mesh_tracking
from wertis.core.jobs import point_tracking as point_tracking
