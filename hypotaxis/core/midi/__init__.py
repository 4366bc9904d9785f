"""Protocol facts as tables: programs and banks."""
