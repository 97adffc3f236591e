"""Long jobs, and the rounds of the workers that do them."""
