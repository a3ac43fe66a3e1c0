"""One truth through every door: random benches and logs, each read in every way there is."""
