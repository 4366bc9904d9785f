"""Recall: what it takes to make an old session sound again. Stands on top of the rest of the core, beside findings."""
