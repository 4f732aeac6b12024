"""From raw outputs to boxes: anchors, decoding, candidates, suppression, fusion."""
