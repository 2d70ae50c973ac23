"""a write's kept answer names its thing by `id`; a closing run points at the calibration it closes"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"

#: Names under which an answer kept the id of the one thing that was made or changed.
IDS = (
    "run",
    "step",
    "visit",
    "outing",
    "closing",
    "calibration_session",
    "sitting",
    "probe",
    "meter",
    "round",
    "site",
    "log",
    "service",
    "decision",
    "lot",
    "reading",
    "photo",
    "inspection",
    "taken",
    "recorded",
    "key",
    "calibration",
)
#: Their answers hold more, or another thing: they keep their names.
OTHERS = ("run.finish", "meter.token", "meter.battery", "visit.queued", "visit.dip", "method.save")


def upgrade() -> None:
    for name in IDS:
        op.execute(
            sa.text(
                "update write_keys set result = jsonb_build_object('id', result ->> :name) "
                "where result ? :name and not result ? 'id' and not action = any(:others)"
            ).bindparams(name=name, others=list(OTHERS))
        )
    op.execute("update write_keys set result = jsonb_build_object('id', '') where result = '{}'::jsonb")
    op.add_column("runs", sa.Column("closes_id", sa.Uuid(), nullable=True))
    op.create_foreign_key("runs_closes_id_fkey", "runs", "calibrations", ["closes_id"], ["id"])
    # What a closing run closes was written among its conditions; the row says the same as before.
    op.execute("alter table runs disable trigger evidence")
    op.execute("update runs set closes_id = (conditions ->> 'closes')::uuid where conditions ? 'closes'")
    op.execute("alter table runs enable trigger evidence")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
