"""secrets of accounts"""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "secrets",
        sa.Column("account_id", sa.String(40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("sealed", sa.String(), nullable=False),
        sa.Column("about", sa.String(), nullable=False),
        sa.Column("set_by", sa.String(), nullable=False),
        sa.Column("set_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("used_at", sa.DateTime(timezone=True)),
        sa.Column("used_by", sa.String()),
        sa.PrimaryKeyConstraint("account_id", "name", name="pk_secrets"),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name="fk_secrets_account_id"),
    )


def downgrade() -> None:
    op.drop_table("secrets")
