"""Gas: smoke and heat on a staggered grid, steered by fields."""
