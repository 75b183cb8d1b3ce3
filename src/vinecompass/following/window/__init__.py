"""The velocity window."""
