"""How long data of people is kept."""
