"""What a run tells of the robot that made it: mount, sizes, sweep, clocks, noises."""
