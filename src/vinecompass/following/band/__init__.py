"""The time-optimal band."""
