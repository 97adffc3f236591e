"""Who may come in, and what they may do."""
