"""The demo scene, a bakery's cooling belt, and the project made from it."""
