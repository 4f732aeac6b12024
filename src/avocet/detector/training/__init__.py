"""Training: settings, targets, loss, the trainer, what it reports."""
