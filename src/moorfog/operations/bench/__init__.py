"""A visit from arrival to release: what is proposed, what an instrument reads, what is signed."""
