"""Growth: a volume that grows along fields from shapes, as a level set in a narrow band."""
