"""One file a format, a reader and a writer each."""
