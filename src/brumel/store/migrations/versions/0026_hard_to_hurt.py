"""hard to hurt: keys remember what was sent, one of each, evidence of everything, a chain of audit rows, two roles"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0026"
down_revision = "0025"

#: What an earlier version may have let in twice, in a race: {what is asked: what is said of each find}.
TWICE = {
    "select name from meters where retired_at is null group by 1 having count(*) > 1": "Two meters in service are called",
    "select name from probes where retired_at is null group by 1 having count(*) > 1": "Two probes in service are called",
    "select min(name) from sites group by client_id, name having count(*) > 1": "A client has two sites called",
    "select min(name) from probes where retired_at is null and address <> '' "
    "group by meter_id, address, coalesce((link_values->>'signal')::int, 1) having count(*) > 1": "Another probe has the "
    "link address of",
}


#: Evidence from now on, besides what was before.
NEW_EVIDENCE = (
    "visit_probes",
    "outings",
    "outing_ends",
    "outing_packings",
    "outing_settings",
    "link_sessions",
    "link_contacts",
)

#: What is hashed of an audit row, the same text wherever it is worked out anew (`brumel verify` does, in Python).
CHAINED = (
    "jsonb_build_array(a.seq, to_char(a.at at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US'), a.user_id, a.action, "
    "a.subject, a.detail, a.changes, a.key)::text"
)


def upgrade() -> None:
    op.add_column("write_keys", sa.Column("content", sa.String(), nullable=False, server_default=""))
    op.alter_column("write_keys", "content", server_default=None)
    op.alter_column("write_keys", "result", nullable=True)
    op.execute("update write_keys set result = '{}' where result is null")
    _one_of_each()
    _outings()
    _links()
    _chain()
    _only_added_to()
    _months()


def _outings() -> None:
    by = sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False)
    at = sa.Column("at", TIMESTAMP(timezone=True), nullable=False)
    outing = sa.Column("outing_id", sa.Uuid(), sa.ForeignKey("outings.id"), nullable=False)
    number = sa.Column("id", sa.Integer(), sa.Identity(), primary_key=True)
    op.create_table(
        "outing_ends",
        sa.Column("outing_id", sa.Uuid(), sa.ForeignKey("outings.id"), primary_key=True),
        at.copy(),
        by.copy(),
    )
    packed = sa.Column("packed", JSONB(), nullable=False)
    op.create_table("outing_packings", number.copy(), outing.copy(), packed, at.copy(), by.copy())
    op.create_table(
        "outing_settings",
        number.copy(),
        outing.copy(),
        sa.Column("meter_id", sa.Uuid(), sa.ForeignKey("meters.id"), nullable=False),
        sa.Column("snapshot_id", sa.Uuid(), sa.ForeignKey("meter_settings.id"), nullable=False),
        at.copy(),
        by.copy(),
    )
    for table in ("outing_packings", "outing_settings"):
        op.create_index(f"ix_{table}_outing_id", table, ["outing_id"])
    op.execute(
        "insert into outing_ends select id, ended_at, operator_id from outings where ended_at is not null"
    )
    op.execute(
        "insert into outing_packings (outing_id, packed, at, by_id) "
        "select id, packed, started_at, operator_id from outings where packed <> '{}'"
    )
    # Who checked stood there by name; where two people share it, or nobody has it any more, it is whoever went.
    op.execute(
        "insert into outing_settings (outing_id, meter_id, snapshot_id, at, by_id) "
        "select o.id, c.key::uuid, (c.value->>'snapshot')::uuid, (c.value->>'at')::timestamptz, "
        "coalesce((select id from users where name = c.value->>'by' order by username limit 1), o.operator_id) "
        "from outings o, jsonb_each(o.settings) c"
    )
    for column in ("ended_at", "packed", "settings"):
        op.drop_column("outings", column)


def _links() -> None:
    of = sa.Column("session_id", sa.Uuid(), sa.ForeignKey("link_sessions.id"), primary_key=True)
    op.create_table(
        "link_contacts",
        of.copy(),
        sa.Column("minute", sa.Integer(), primary_key=True, autoincrement=False),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
    )
    op.create_table(
        "link_states",
        of.copy(),
        sa.Column("at", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("last", JSONB(), nullable=False),
        sa.Column("waiting", sa.Integer(), nullable=False),
        sa.Column("refused", sa.Integer(), nullable=False),
        sa.Column("words", sa.String(), nullable=False),
    )
    op.execute("insert into link_states select id, last_at, last, 0, 0, '' from link_sessions")
    op.execute(
        "insert into link_contacts select id, greatest(0, floor(extract(epoch from last_at - at) / 60))::int, last_at "
        "from link_sessions"
    )
    op.drop_column("link_sessions", "last_at")
    op.drop_column("link_sessions", "last")


def _chain() -> None:
    op.add_column("audit", sa.Column("changes", JSONB(), nullable=False, server_default="{}"))
    op.alter_column("audit", "changes", server_default=None)
    op.add_column("audit", sa.Column("seq", sa.BigInteger()))
    op.add_column("audit", sa.Column("hash", sa.String()))
    op.execute(
        f"""
        create function audit_hash(a audit, before text) returns text language sql stable
        set search_path = pg_catalog, public as $$
            select encode(sha256(convert_to(before || {CHAINED}, 'UTF8')), 'hex')
        $$
        """
    )
    op.execute("alter table audit disable trigger evidence")
    op.execute(
        """
        do $$
        declare
            a audit;
            before text := '';
            n bigint := 0;
        begin
            for a in select * from audit order by id loop
                n := n + 1;
                a.seq := n;
                before := audit_hash(a, before);
                update audit set seq = n, hash = before where id = a.id;
            end loop;
        end $$
        """
    )
    op.execute("alter table audit enable trigger evidence")
    op.alter_column("audit", "seq", nullable=False)
    op.alter_column("audit", "hash", nullable=False)
    op.create_unique_constraint("audit_seq_key", "audit", ["seq"])
    # One link after the other: whoever writes next waits until the one before is in the record, or is not.
    op.execute(
        """
        create function audit_chains() returns trigger language plpgsql security definer
        set search_path = pg_catalog, public as $$
        declare
            last audit;
        begin
            perform pg_advisory_xact_lock(hashtext('brumel: the audit chain'));
            select * into last from audit order by seq desc limit 1;
            new.seq := coalesce(last.seq, 0) + 1;
            new.hash := audit_hash(new, coalesce(last.hash, ''));
            return new;
        end $$
        """
    )
    op.execute("create trigger chains before insert on audit for each row execute function audit_chains()")


def _only_added_to() -> None:
    for table in NEW_EVIDENCE:
        op.execute(
            f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
        )
    tables = op.get_bind().scalars(
        sa.text(
            "select c.relname from pg_trigger t join pg_class c on c.oid = t.tgrelid where t.tgname = 'evidence' "
            "union select c.relname from pg_inherits i join pg_class c on c.oid = i.inhrelid "
            "where i.inhparent = 'samples'::regclass union select 'write_keys'"
        )
    )
    for table in tables.all():
        op.execute(
            f"create trigger evidence_whole before truncate on {table} for each statement execute function evidence_stays()"
        )
    op.execute(
        """
        create function key_is_filled_once() returns trigger language plpgsql as $$
        begin
            if tg_op = 'UPDATE' and old.result is null and new.result is not null
                and (new.key, new.user_id, new.action, new.content, new.at)
                    = (old.key, old.user_id, old.action, old.content, old.at) then
                return new;
            end if;
            raise exception 'a key is filled once and stays';
        end $$
        """
    )
    op.execute(
        "create trigger evidence before update or delete on write_keys for each row execute function key_is_filled_once()"
    )
    # What is derived from evidence is kept by the tables' owner, not by whoever adds the evidence.
    for function in ("reading_waits", "reading_signed", "reading_stands"):
        op.execute(f"alter function {function}() security definer set search_path = pg_catalog, public")


def _months() -> None:
    op.execute(
        """
        create function add_sample_months(since date, ahead integer) returns setof text language plpgsql security definer
        set search_path = pg_catalog, public as $$
        declare
            first date;
            name text;
        begin
            for n in 0..least(greatest(ahead, 0), 60) loop
                first := (date_trunc('month', since) + make_interval(months => n))::date;
                name := 'samples_' || to_char(first, 'YYYY_MM');
                if to_regclass('public.' || name) is not null then
                    continue;
                end if;
                begin
                    execute format('create table public.%I partition of public.samples for values from (%L) to (%L)',
                        name, first, (first + interval '1 month')::date);
                exception when check_violation then
                    continue; -- a clock that ran ahead left samples in the catch-all: there they stay
                end;
                execute format('create trigger evidence_whole before truncate on public.%I for each statement '
                    'execute function evidence_stays()', name);
                return next name;
            end loop;
        end $$
        """
    )
    op.execute("revoke all on function add_sample_months(date, integer) from public")


def _one_of_each() -> None:
    connection = op.get_bind()
    for query, words in TWICE.items():
        if (name := connection.scalar(sa.text(query))) is not None:
            raise RuntimeError(f"{words} “{name}”. Rename or retire one with the version of before, then migrate.")
    op.execute("create unique index meters_one_name on meters (name) where retired_at is null")
    op.execute("create unique index probes_one_name on probes (name) where retired_at is null")
    op.execute(
        "create unique index probes_one_place on probes (meter_id, address, coalesce((link_values->>'signal')::int, 1)) "
        "where retired_at is null and address <> ''"
    )
    op.execute("create unique index sites_one_name on sites (client_id, name)")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
