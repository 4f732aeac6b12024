"""More machines, through Ray: detection and measuring dealt out to workers that hold the model."""
