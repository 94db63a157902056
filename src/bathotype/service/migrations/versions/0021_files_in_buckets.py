"""files of saved sheets that stay in buckets"""

from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.alter_column("sheet_files", "upload_id", nullable=True)


def downgrade() -> None:
    op.execute("delete from sheet_files where upload_id is null")
    op.alter_column("sheet_files", "upload_id", nullable=False)
