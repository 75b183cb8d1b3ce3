"""From what is read in each step to where the robot stands and what is about it."""
