"""build runs"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "build_runs",
        sa.Column("operation_id", sa.String(40), nullable=False),
        sa.Column("account_id", sa.String(40), nullable=False),
        sa.Column("sheet", sa.String(), nullable=False),
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("values", JSONB(), nullable=False),
        sa.Column("payload", JSONB(), nullable=False),
        sa.Column("base", sa.String(), nullable=False),
        sa.Column("base_digest", sa.String(), nullable=False),
        sa.Column("steps", JSONB(), nullable=False),
        sa.PrimaryKeyConstraint("operation_id", name="pk_build_runs"),
        sa.ForeignKeyConstraint(
            ["operation_id"], ["operations.id"], name="fk_build_runs_operation_id", ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name="fk_build_runs_account_id"),
    )
    op.create_index("ix_build_runs_account_id_operation_id", "build_runs", ["account_id", "operation_id"])


def downgrade() -> None:
    op.drop_table("build_runs")
