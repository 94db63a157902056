"""what versions are for, their proof sheets; the order of a placement's regions; what differs from first-boot settings;
why alerts are acknowledged"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("placements", sa.Column("position", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column("instances", sa.Column("differences", JSONB(), nullable=False, server_default="[]"))
    op.add_column("versions", sa.Column("purpose", JSONB(), nullable=False, server_default="{}"))
    op.add_column("versions", sa.Column("proof", JSONB(), nullable=True))
    op.add_column("operations", sa.Column("start_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("alerts", sa.Column("acknowledged_reason", sa.String(), nullable=True))


def downgrade() -> None:
    op.drop_column("alerts", "acknowledged_reason")
    op.drop_column("operations", "start_at")
    op.drop_column("versions", "proof")
    op.drop_column("versions", "purpose")
    op.drop_column("instances", "differences")
    op.drop_column("placements", "position")
