"""The one app with models: rows, and their turning into core values and back."""
