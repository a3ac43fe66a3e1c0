"""Speed and memory, as ratios against the obvious alternative in one run. `make bench`."""
