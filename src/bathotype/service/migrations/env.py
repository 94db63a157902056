"""Alembic's entry: runs migrations on the connection that the service hands over."""

from alembic import context

from bathotype.service.records import Base

context.configure(connection=context.config.attributes["connection"], target_metadata=Base.metadata)
with context.begin_transaction():
    context.run_migrations()
