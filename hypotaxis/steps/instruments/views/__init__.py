"""Pages of the instruments: their lines, and the patch lists that name their sounds."""
