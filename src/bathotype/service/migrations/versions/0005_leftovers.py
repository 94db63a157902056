"""leftovers: whether what an operation may have left at the site was removed"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("operations", sa.Column("leftovers_removed", sa.Boolean(), nullable=False, server_default=sa.true()))
    op.execute("update operations set leftovers_removed = false where kind in ('capture', 'capture-plan')")
    op.create_index(
        "ix_operations_leftovers", "operations", ["account_id"], postgresql_where=sa.text("not leftovers_removed")
    )


def downgrade() -> None:
    op.drop_index("ix_operations_leftovers", "operations")
    op.drop_column("operations", "leftovers_removed")
