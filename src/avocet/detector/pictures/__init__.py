"""Pictures as the network gets them: resized, augmented, in batches."""
