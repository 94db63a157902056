"""Everything on one machine, with demo data: PostgreSQL, the stand-in cloud, the service and a worker."""
