"""the disks of a version, and a base disk for each; the disks of an instance, and where it attaches; what a line demands"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("base_disks", sa.Column("data_disks", JSONB(), nullable=False, server_default="[]"))
    op.add_column("instances", sa.Column("disks", JSONB(), nullable=False, server_default="[]"))
    op.add_column("instances", sa.Column("attach", JSONB(), nullable=False, server_default="{}"))
    op.add_column("lines", sa.Column("demands", sa.String(), nullable=False, server_default="high"))
    op.add_column("versions", sa.Column("disks", JSONB(), nullable=False, server_default="[]"))
    op.execute(
        "update versions set disks = jsonb_build_array(jsonb_build_object('role', 'boot', 'bytes', virtual_bytes, "
        "'used_bytes', used_bytes, 'holds', '', 'digest', content_digest))"
    )


def downgrade() -> None:
    op.drop_column("versions", "disks")
    op.drop_column("lines", "demands")
    op.drop_column("instances", "attach")
    op.drop_column("instances", "disks")
    op.drop_column("base_disks", "data_disks")
