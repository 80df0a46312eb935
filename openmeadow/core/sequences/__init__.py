"""Messages over days, per person: a ladder of steps in two lanes."""
