"""Journeys: the itinerary as a value, its changes, how it is walked, and how it is drawn."""
