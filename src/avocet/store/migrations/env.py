"""Run by Alembic with the connection that `avocet.store.database` hands over."""

from alembic import context

from avocet.store.tables import Base

context.configure(
    connection=context.config.attributes["connection"], target_metadata=Base.metadata, render_as_batch=True
)
with context.begin_transaction():
    context.run_migrations()
