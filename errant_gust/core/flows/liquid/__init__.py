"""Liquid: particles and a staggered grid with a free surface, from water to slime, steered by fields."""
