"""The stations: one module each, and the drawings they are made of."""
