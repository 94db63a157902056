"""bringing disks in and out: uploads, and digests of exported files"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "uploads",
        sa.Column("id", sa.String(length=40), nullable=False),
        sa.Column("account_id", sa.String(length=40), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("part_bytes", sa.BigInteger(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name=op.f("fk_uploads_account_id_accounts")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_uploads")),
    )
    op.create_index(op.f("ix_uploads_account_id"), "uploads", ["account_id"])
    op.create_table(
        "export_digests",
        sa.Column("version_id", sa.String(length=40), nullable=False),
        sa.Column("format", sa.String(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id"], ["versions.id"], name=op.f("fk_export_digests_version_id_versions"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("version_id", "format", name=op.f("pk_export_digests")),
    )


def downgrade() -> None:
    op.drop_table("export_digests")
    op.drop_table("uploads")
