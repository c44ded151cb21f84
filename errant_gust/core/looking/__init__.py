"""Results of runs made small to look at: points in 8 bytes, texels of volumes with light in them, lines, instances."""
