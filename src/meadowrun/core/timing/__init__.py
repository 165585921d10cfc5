"""When something may happen: zones, hours and weekdays, moments on each person's own clock,
portions, rhythms."""
