"""One piece of music: tempo map, tracks, what goes out when, passes and takes."""
