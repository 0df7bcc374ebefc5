"""Long work. New kinds of trackers are imported here, so that whoever tracks knows them."""

from wertis.core.jobs import mesh_tracking as mesh_tracking
