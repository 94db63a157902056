"""the order of a placement's regions"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("placements", sa.Column("position", sa.BigInteger(), nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("placements", "position")
