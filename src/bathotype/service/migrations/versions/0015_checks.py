"""runs of checks, and lines whose versions are proven before their release"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "check_runs",
        sa.Column("operation_id", sa.String(40), nullable=False),
        sa.Column("account_id", sa.String(40), nullable=False),
        sa.Column("version_id", sa.String(40), nullable=False),
        sa.Column("instance_id", sa.String(40)),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("machine_size", sa.String(), nullable=False),
        sa.Column("checks", JSONB(), nullable=False),
        sa.Column("judgements", JSONB(), nullable=False),
        sa.Column("passed", sa.Boolean()),
        sa.Column("boot_seconds", sa.Float()),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("operation_id", name="pk_check_runs"),
        sa.ForeignKeyConstraint(
            ["operation_id"], ["operations.id"], name="fk_check_runs_operation_id", ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name="fk_check_runs_account_id"),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name="fk_check_runs_version_id"),
        sa.ForeignKeyConstraint(["instance_id"], ["instances.id"], name="fk_check_runs_instance_id"),
    )
    op.create_index("ix_check_runs_version_id_operation_id", "check_runs", ["version_id", "operation_id"])
    op.add_column("lines", sa.Column("proven_first", sa.Boolean(), nullable=False, server_default="false"))


def downgrade() -> None:
    op.drop_column("lines", "proven_first")
    op.drop_table("check_runs")
