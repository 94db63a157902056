"""alerts about machines that rules do not admit say in which region, as others about machines do"""

from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "update alerts set subject = instances.name || ' in ' || instances.region from instances "
        "where alerts.kind = 'not-admitted' and instances.account_id = alerts.account_id "
        "and instances.name = alerts.subject and instances.origin = 'found' "
        "and instances.state in ('running', 'stopped', 'lost')"
    )


def downgrade() -> None:
    op.execute("update alerts set subject = regexp_replace(subject, ' in [^ ]+$', '') where kind = 'not-admitted'")
