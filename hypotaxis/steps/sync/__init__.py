"""Sync: who clocks whom."""
