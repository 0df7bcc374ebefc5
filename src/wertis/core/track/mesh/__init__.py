"""The mesh tracker: a surface that bends. `run` tracks one over a plate, `tracker` goes from frame to frame."""
