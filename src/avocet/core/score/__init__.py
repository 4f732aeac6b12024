"""From boxes to figures: matching, precision, confusion, kinds of error, uncertainty."""
