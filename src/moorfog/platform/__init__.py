"""What knows no fit testing: the database, the logs and ledgers, the web, long jobs, uploads, and pages on paper."""
