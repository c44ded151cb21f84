"""Velocities on the faces of cells: sampling, walls, pressure, carrying, and the window that follows what is in it."""
