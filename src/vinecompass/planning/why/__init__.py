"""Why there is no plan, and what would open the way."""
