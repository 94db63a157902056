"""git repositories that sheets come from"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "repositories",
        sa.Column("id", sa.String(40), nullable=False),
        sa.Column("account_id", sa.String(40), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("address", sa.String(), nullable=False),
        sa.Column("branch", sa.String(), nullable=False),
        sa.Column("folder", sa.String(), nullable=False),
        sa.Column("secret", sa.String()),
        sa.Column("signers", postgresql.JSONB(), nullable=False),
        sa.Column("values", postgresql.JSONB(), nullable=False),
        sa.Column("every_minutes", sa.Integer(), nullable=False),
        sa.Column("sealed", sa.String(), nullable=False),
        sa.Column("made_by", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("commit", sa.String(), nullable=False),
        sa.Column("author", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("signer", sa.String(), nullable=False),
        sa.Column("committed_at", sa.DateTime(timezone=True)),
        sa.Column("read_at", sa.DateTime(timezone=True)),
        sa.Column("tried_at", sa.DateTime(timezone=True)),
        sa.Column("next_at", sa.DateTime(timezone=True)),
        sa.Column("again", sa.Boolean(), nullable=False),
        sa.Column("problem", sa.String(), nullable=False),
        sa.Column("wrong", postgresql.JSONB(), nullable=False),
        sa.PrimaryKeyConstraint("id", name="pk_repositories"),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name="fk_repositories_account_id"),
        sa.UniqueConstraint("account_id", "name", name="uq_repositories_account_id_name"),
    )
    op.create_index("ix_repositories_next_at", "repositories", ["next_at"])
    op.add_column("saved_sheets", sa.Column("repository_id", sa.String(40)))
    op.add_column("saved_sheets", sa.Column("path", sa.String(), nullable=False, server_default=""))
    op.add_column("saved_sheets", sa.Column("withdrawn", sa.Boolean(), nullable=False, server_default="false"))
    for column in ("after_push", "pushed"):
        op.add_column("saved_sheets", sa.Column(column, sa.Boolean(), nullable=False, server_default="false"))
    op.create_foreign_key(
        "fk_saved_sheets_repository_id", "saved_sheets", "repositories", ["repository_id"], ["id"], ondelete="SET NULL"
    )
    op.create_index("ix_saved_sheets_repository_id", "saved_sheets", ["repository_id"])
    for table in ("sheet_texts", "build_runs"):
        op.add_column(table, sa.Column("repository", sa.String(), nullable=False, server_default=""))
        op.add_column(table, sa.Column("commit", sa.String(), nullable=False, server_default=""))
    op.add_column("build_runs", sa.Column("figures", postgresql.JSONB(), nullable=False, server_default="[]"))
    op.add_column("build_runs", sa.Column("repeats", sa.String(), nullable=False, server_default=""))
    op.add_column("api_tokens", sa.Column("sheets", postgresql.JSONB()))


def downgrade() -> None:
    op.drop_column("api_tokens", "sheets")
    op.drop_column("build_runs", "repeats")
    op.drop_column("build_runs", "figures")
    for table in ("build_runs", "sheet_texts"):
        op.drop_column(table, "commit")
        op.drop_column(table, "repository")
    op.drop_index("ix_saved_sheets_repository_id", "saved_sheets")
    op.drop_constraint("fk_saved_sheets_repository_id", "saved_sheets")
    for column in ("after_push", "pushed", "withdrawn", "path", "repository_id"):
        op.drop_column("saved_sheets", column)
    op.drop_table("repositories")
