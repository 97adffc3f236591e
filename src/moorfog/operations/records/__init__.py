"""What is left of visits, and what is made of it: lists, papers, exports, recall."""
