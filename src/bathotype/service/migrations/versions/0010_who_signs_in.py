"""wrong passwords by name and address; tokens made with tokens"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "sign_in_failures",
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("failures", sa.BigInteger(), nullable=False),
        sa.Column("locked_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("key", name="pk_sign_in_failures"),
    )
    op.create_index("ix_sign_in_failures_at", "sign_in_failures", ["at"])
    op.drop_column("users", "failures")
    op.drop_column("users", "locked_until")
    op.add_column("api_tokens", sa.Column("parent_id", sa.String(40), nullable=True))
    op.create_foreign_key(
        "fk_api_tokens_parent_id", "api_tokens", "api_tokens", ["parent_id"], ["id"], ondelete="CASCADE"
    )
    op.create_index("ix_api_tokens_parent_id", "api_tokens", ["parent_id"])


def downgrade() -> None:
    op.drop_index("ix_api_tokens_parent_id", "api_tokens")
    op.drop_constraint("fk_api_tokens_parent_id", "api_tokens")
    op.drop_column("api_tokens", "parent_id")
    op.add_column("users", sa.Column("failures", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column("users", sa.Column("locked_until", sa.DateTime(timezone=True), nullable=True))
    op.drop_table("sign_in_failures")
