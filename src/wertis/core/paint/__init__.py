"""Painting on flat pictures: strokes, healing, filling from the surroundings."""
