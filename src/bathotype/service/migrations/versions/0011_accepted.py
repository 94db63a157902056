"""memberships that a person has accepted; log-ins by a provider that begin with an invitation; starts of steps"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("memberships", sa.Column("accepted_at", sa.DateTime(timezone=True), nullable=True))
    op.execute("update memberships set accepted_at = since")
    op.add_column("oidc_attempts", sa.Column("user_id", sa.String(40), nullable=True))
    op.create_foreign_key(
        "fk_oidc_attempts_user_id_users", "oidc_attempts", "users", ["user_id"], ["id"], ondelete="CASCADE"
    )
    op.create_index("ix_oidc_attempts_user_id", "oidc_attempts", ["user_id"])
    op.add_column("operation_steps", sa.Column("starts", sa.BigInteger(), nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("operation_steps", "starts")
    op.drop_index("ix_oidc_attempts_user_id", "oidc_attempts")
    op.drop_constraint("fk_oidc_attempts_user_id_users", "oidc_attempts")
    op.drop_column("oidc_attempts", "user_id")
    op.execute("delete from memberships where accepted_at is null")
    op.drop_column("memberships", "accepted_at")
