"""Sites: connected clouds and hypervisors, behind one protocol."""
