"""Pictures of runs without a screen: what a frame holds, lit and seen through a camera."""
