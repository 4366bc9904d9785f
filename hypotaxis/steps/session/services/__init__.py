"""What the session's pages do."""
