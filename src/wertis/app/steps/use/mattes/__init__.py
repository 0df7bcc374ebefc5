"""Mattes in the step Use: their page, the tool that shapes them, and how they are painted over the picture."""
