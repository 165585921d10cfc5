"""Measurements as ratios: ours beside a baseline, in the same run on the same data."""
