"""parts of build sheets that are kept"""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("saved_sheets", sa.Column("is_part", sa.Boolean(), nullable=False, server_default="false"))


def downgrade() -> None:
    op.drop_column("saved_sheets", "is_part")
