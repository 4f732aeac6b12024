"""Pictures and clips to arrays and back. Arrays are (H, W, 3) uint8, red green blue."""
