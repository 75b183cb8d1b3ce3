"""How a robot gets from pose to pose on open floor: lines and curves of bounded radius."""
