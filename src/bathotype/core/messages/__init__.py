"""Events as others receive them: CloudEvents for programs, mail for people."""
