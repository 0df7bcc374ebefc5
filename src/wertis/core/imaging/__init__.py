"""What light and camera do to a picture: resolution, blur by motion, reflections."""
