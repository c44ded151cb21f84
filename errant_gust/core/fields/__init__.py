"""Fields: a scalar or a vector at every point in space and time, built step by step, with exact gradients."""
