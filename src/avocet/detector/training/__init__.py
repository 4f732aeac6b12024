"""Training: settings, the trainer, what it reports."""
