"""stored bytes over time"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "stored_bytes",
        sa.Column("account_id", sa.String(40), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("line_id", sa.String(), nullable=False),
        sa.Column("alone", sa.BigInteger(), nullable=False),
        sa.Column("shared", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name="fk_stored_bytes_account_id"),
        sa.PrimaryKeyConstraint("account_id", "at", "region", "line_id", name="pk_stored_bytes"),
    )
    op.create_index("ix_stored_bytes_at", "stored_bytes", ["at"])


def downgrade() -> None:
    op.drop_table("stored_bytes")
