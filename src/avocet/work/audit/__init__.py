"""Looking for labelling mistakes, and figures of the labels."""
