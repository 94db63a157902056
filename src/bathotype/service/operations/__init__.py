"""The engine for durable work: what an operation is, running it, and the queue that brings it to workers."""
