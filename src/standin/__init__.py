"""The stand-in cloud: a small simulated site with real disks, for demonstrations and tests.

It shares no code with Bathotype: whatever passes between them passes over HTTP, NBD and agent channels.
"""
