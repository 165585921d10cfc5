"""The village around the demo: its tasks run in the worker of the demo only."""

from meadowrun.base.manifest import Feature

FEATURE = Feature(tasks=("jobs",))
