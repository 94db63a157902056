"""counts of instances over time, alerts that somebody has seen, and a notification for each change that an open console shows"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

#: Table, when it tells, the accounts that are concerned, what changed, and its id.
_TRIGGERS = (
    ("events", "insert", "array[NEW.account_id]", "event", "NEW.id::text"),
    # Not of every beat of a worker.
    (
        "operations",
        "insert or update of state, cancel_requested, result, error",
        "array[NEW.account_id]",
        "operation",
        "NEW.id",
    ),
    (
        "operation_steps",
        "update",
        "array(select account_id from operations where id = NEW.operation_id)",
        "operation",
        "NEW.operation_id",
    ),
    ("instances", "insert or update of state", "array[NEW.account_id]", "instance", "NEW.id"),
    (
        "replicas",
        "insert or update of state",
        "array(select l.account_id from lines l join versions v on v.line_id = l.id where v.id = NEW.version_id)",
        "replica",
        "NEW.version_id",
    ),
    ("shares", "insert or update", "array_remove(array[NEW.owner_id, NEW.consumer_id], null)", "share", "NEW.id"),
)


def upgrade() -> None:
    op.create_table(
        "count_samples",
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("at", name="pk_count_samples"),
    )
    op.create_table(
        "instance_counts",
        sa.Column("version_id", sa.String(40), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("account_id", sa.String(40), nullable=False),
        sa.Column("region", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("count", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["version_id"], ["versions.id"], name="fk_instance_counts_version_id"),
        sa.ForeignKeyConstraint(["account_id"], ["accounts.id"], name="fk_instance_counts_account_id"),
        sa.ForeignKeyConstraint(["at"], ["count_samples.at"], name="fk_instance_counts_at", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("version_id", "at", "account_id", "region", "state", name="pk_instance_counts"),
    )
    op.create_index("ix_instance_counts_at", "instance_counts", ["at"])
    op.add_column("alerts", sa.Column("acknowledged_by", sa.String(), nullable=True))
    op.add_column("alerts", sa.Column("acknowledged_at", sa.DateTime(timezone=True), nullable=True))
    op.drop_column("console_sessions", "csrf")  # it follows from the cookie
    # PostgreSQL folds notifications of one transaction that say the same into one.
    for table, moment, accounts, what, key in _TRIGGERS:
        op.execute(
            f"""
            create function tell_of_{table}() returns trigger language plpgsql as $$
            declare concerned text;
            begin
                foreach concerned in array {accounts} loop
                    perform pg_notify('bathotype', concerned || ' {what} ' || {key});
                end loop;
                return null;
            end $$
            """
        )
        unchanged = " when (OLD is distinct from NEW)" if moment == "update" else ""
        op.execute(
            f"create trigger tell after {moment} on {table} for each row{unchanged} execute function tell_of_{table}()"
        )


def downgrade() -> None:
    for table, *_ in _TRIGGERS:
        op.execute(f"drop trigger tell on {table}")
        op.execute(f"drop function tell_of_{table}()")
    op.drop_column("alerts", "acknowledged_at")
    op.drop_column("alerts", "acknowledged_by")
    op.execute("delete from console_sessions")
    op.add_column("console_sessions", sa.Column("csrf", sa.String(), nullable=False))
    op.drop_table("instance_counts")
    op.drop_table("count_samples")
