"""What can be told from labels and pictures alone: what looks wrong, tightening, splitting."""
