"""the index of chunks: where each region's store holds a chunk; filled by upkeep for versions that are there already"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "stored_packs",
        sa.Column("id", sa.BigInteger(), sa.Identity(), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id", name="pk_stored_packs"),
        sa.UniqueConstraint("region", "name", name="uq_stored_packs_region"),
    )
    op.create_table(
        "stored_chunks",
        sa.Column("digest", sa.LargeBinary(), nullable=False),
        sa.Column("pack_id", sa.BigInteger(), nullable=False),
        sa.Column("offset", sa.Integer(), nullable=False),
        sa.Column("length", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("digest", "pack_id", name="pk_stored_chunks"),
    )
    op.create_index("ix_stored_chunks_pack_id", "stored_chunks", ["pack_id"])
    op.add_column("replicas", sa.Column("indexed", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    op.drop_column("replicas", "indexed")
    op.drop_table("stored_chunks")
    op.drop_table("stored_packs")
