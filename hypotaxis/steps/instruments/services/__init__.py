"""What the instruments' pages do."""
