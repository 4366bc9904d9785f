"""The demo: the Saltmarsh Room and its session "Tide Tables", loaded through the normal import path."""
