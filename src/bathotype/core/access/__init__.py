"""Who may do what: roles and what they allow."""
