"""What is on a disk: operating system, packages, services, users; and how two versions differ."""
