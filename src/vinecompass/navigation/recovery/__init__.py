"""What the robot does when it cannot go on."""
