"""Everything planned and gone, day by day: how much, what clashes, and what moving would do."""
