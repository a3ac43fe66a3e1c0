"""How far a reading can be trusted: contributions, budget, Monte Carlo, propagation."""
