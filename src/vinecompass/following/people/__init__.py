"""Meeting people: relations and rules."""
