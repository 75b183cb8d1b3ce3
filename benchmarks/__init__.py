"""Speed claims as ratios against a general-purpose yardstick on the same work in the same run."""
