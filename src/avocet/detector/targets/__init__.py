"""What a network is to answer: anchors, which places answer for which truth, and the loss."""
