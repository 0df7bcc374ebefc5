"""The document. New kinds of records are imported here, so that whoever opens a shot knows them."""

from wertis.core.shot import meshes as meshes
