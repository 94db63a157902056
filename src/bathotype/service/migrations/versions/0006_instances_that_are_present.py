"""instances that are present: an index of those that run a version, or may"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

_PRESENT = sa.text("state in ('pending', 'starting', 'running', 'stopped', 'lost')")


def upgrade() -> None:
    op.create_index("ix_instances_present", "instances", ["version_id", "account_id"], postgresql_where=_PRESENT)


def downgrade() -> None:
    op.drop_index("ix_instances_present", "instances")
