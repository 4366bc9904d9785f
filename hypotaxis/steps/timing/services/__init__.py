"""What the timing pages do."""
