"""How late does a sound come home? Moments, hits, matching, the fitted line, placement."""
