"""saved sheets"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "saved_sheets",
        sa.Column("id", sa.String(40), nullable=False),
        sa.Column("account_id", sa.String(40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("base", sa.String(), nullable=False),
        sa.Column("line", sa.String(), nullable=False),
        sa.Column("after_base", sa.Boolean(), nullable=False),
        sa.Column("paused", sa.Boolean(), nullable=False),
        sa.Column("next_at", sa.DateTime(timezone=True)),
        sa.Column("base_seen", sa.String(40)),
        sa.Column("last_run", sa.String(40)),
        sa.Column("noted", sa.String(), nullable=False),
        sa.Column("noted_at", sa.DateTime(timezone=True)),
        sa.PrimaryKeyConstraint("id", name="pk_saved_sheets"),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name="fk_saved_sheets_account_id"),
        sa.UniqueConstraint("account_id", "name", name="uq_saved_sheets_account_id_name"),
    )
    op.create_index("ix_saved_sheets_next_at", "saved_sheets", ["next_at"])
    op.create_table(
        "sheet_texts",
        sa.Column("sheet_id", sa.String(40), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("values", postgresql.JSONB(), nullable=False),
        sa.Column("note", sa.String(), nullable=False),
        sa.Column("saved_by", sa.String(), nullable=False),
        sa.Column("saved_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("sheet_id", "number", name="pk_sheet_texts"),
        sa.ForeignKeyConstraint(["sheet_id"], ["saved_sheets.id"], name="fk_sheet_texts_sheet_id", ondelete="CASCADE"),
    )
    op.create_table(
        "sheet_files",
        sa.Column("sheet_id", sa.String(40), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("upload_id", sa.String(40), nullable=False),
        sa.Column("bytes", sa.BigInteger(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("sheet_id", "number", "name", name="pk_sheet_files"),
        sa.ForeignKeyConstraint(["upload_id"], ["uploads.id"], name="fk_sheet_files_upload_id"),
        sa.ForeignKeyConstraint(
            ["sheet_id", "number"],
            ["sheet_texts.sheet_id", "sheet_texts.number"],
            name="fk_sheet_files_sheet_id",
            ondelete="CASCADE",
        ),
    )
    op.create_index("ix_sheet_files_upload_id", "sheet_files", ["upload_id"])
    op.add_column("build_runs", sa.Column("cause", sa.String(), nullable=False, server_default=""))
    op.add_column("build_runs", sa.Column("saved_number", sa.Integer()))


def downgrade() -> None:
    op.drop_column("build_runs", "saved_number")
    op.drop_column("build_runs", "cause")
    op.drop_table("sheet_files")
    op.drop_table("sheet_texts")
    op.drop_table("saved_sheets")
