"""Messages over days, per person: a definition of steps in two paths."""
