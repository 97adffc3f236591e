"""Who may come in, by what, what they may do, what they have shown they can do; and the journal of what was done."""
