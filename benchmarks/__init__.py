"""Speed and memory against reference libraries, as ratios measured in one run: `make bench`."""
