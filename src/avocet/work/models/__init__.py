"""What answers for a model: a run's checkpoint or several runs together."""
