"""checkpoints: what the next capture of a machine can build upon"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "checkpoints",
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("machine_id", sa.String(), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("site_snapshot", sa.String(), nullable=False),
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.Column("noted_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_checkpoints_account_id_accounts")),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name=op.f("fk_checkpoints_version_id_versions")),
        sa.PrimaryKeyConstraint("account_id", "machine_id", name=op.f("pk_checkpoints")),
    )
    op.create_index(op.f("ix_checkpoints_version_id"), "checkpoints", ["version_id"])


def downgrade() -> None:
    op.drop_table("checkpoints")
