"""How the parts of the program are started, watched and stopped. `demo`, `dev` and `serve` use it."""
