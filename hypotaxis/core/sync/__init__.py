"""Sync: what leaves for boxes that follow, what they make of it, and how leaders are followed."""
