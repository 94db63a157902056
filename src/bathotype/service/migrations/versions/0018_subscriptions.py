"""subscriptions to events, and their deliveries"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "subscriptions",
        sa.Column("id", sa.String(40), nullable=False),
        sa.Column("account_id", sa.String(40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("url", sa.String()),
        sa.Column("mail_to", postgresql.JSONB()),
        sa.Column("events", postgresql.JSONB(), nullable=False),
        sa.Column("lines", postgresql.JSONB(), nullable=False),
        sa.Column("sealed", sa.String(), nullable=False),
        sa.Column("paused", sa.Boolean(), nullable=False),
        sa.Column("cursor", sa.BigInteger(), nullable=False),
        sa.Column("made_by", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id", name="pk_subscriptions"),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name="fk_subscriptions_account_id"),
        sa.UniqueConstraint("account_id", "name", name="uq_subscriptions_account_id_name"),
    )
    op.create_table(
        "deliveries",
        sa.Column("id", sa.String(40), nullable=False),
        sa.Column("subscription_id", sa.String(40), nullable=False),
        sa.Column("event_id", sa.BigInteger(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("next_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("answer", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True)),
        sa.PrimaryKeyConstraint("id", name="pk_deliveries"),
        sa.ForeignKeyConstraint(
            ["subscription_id"], ["subscriptions.id"], name="fk_deliveries_subscription_id", ondelete="CASCADE"
        ),
        sa.UniqueConstraint("subscription_id", "event_id", name="uq_deliveries_subscription_id_event_id"),
    )
    op.create_index("ix_deliveries_next_at", "deliveries", ["next_at"], postgresql_where="state = 'pending'")
    op.create_index("ix_deliveries_subscription_id_id", "deliveries", ["subscription_id", "id"])


def downgrade() -> None:
    op.drop_table("deliveries")
    op.drop_table("subscriptions")
