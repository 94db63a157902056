"""What happened, as others are told of it: CloudEvents for programs, mail for people."""
