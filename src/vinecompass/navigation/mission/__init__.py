"""The mission: its stops, its state, how long it stays at them, and what is noted of it."""
