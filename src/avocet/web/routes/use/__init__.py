"""Routes of using a model: detection runs, and addresses for other programs."""
