"""Mattes: closed splines, their coverage of pixels, soft edges, and how they are carried and joined."""
