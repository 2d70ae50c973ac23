"""practice worlds: a schema of the same tables for each learner, and what they tried, reached and may do alone"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP

revision = "0028"
down_revision = "0027"

#: What stays the same in every world and is none of its own.
NOT_OF_A_WORLD = "'add_sample_months', 'make_practice_world', 'drop_practice_world'"


def upgrade() -> None:
    _tables()
    _worlds()


def _tables() -> None:
    key = sa.Column("id", sa.Uuid(), primary_key=True)
    at = sa.Column("at", TIMESTAMP(timezone=True), nullable=False)
    by = sa.Column("by_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False)
    person = sa.Column("person_id", sa.Uuid(), sa.ForeignKey("users.id"), nullable=False, index=True)
    op.create_table(
        "practice_scenarios",
        key.copy(),
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("body", JSONB(), nullable=False),
        sa.Column("in_use", sa.Boolean(), nullable=False),
        at.copy(),
        by.copy(),
        sa.UniqueConstraint("key", "version", name="practice_scenarios_one_version"),
    )
    op.create_table(
        "practice_attempts",
        key.copy(),
        person.copy(),
        sa.Column("scenario", sa.String(), nullable=False),
        sa.Column("told", JSONB(), nullable=False),
        sa.Column("seed", sa.Integer(), nullable=False),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("hints", sa.Boolean(), nullable=False),
        at.copy(),
    )
    op.create_table(
        "practice_results",
        sa.Column("attempt_id", sa.Uuid(), sa.ForeignKey("practice_attempts.id"), primary_key=True),
        sa.Column("finding", JSONB(), nullable=False),
        sa.Column("criteria", JSONB(), nullable=False),
        sa.Column("debrief", JSONB(), nullable=False),
        sa.Column("passed", sa.Boolean(), nullable=False),
        at.copy(),
    )
    op.create_table(
        "practice_assignments",
        key.copy(),
        person.copy(),
        sa.Column("scenario", sa.String(), nullable=False),
        sa.Column("words", sa.String(), nullable=False),
        at.copy(),
        by.copy(),
    )
    op.create_table(
        "skill_signings",
        key.copy(),
        person.copy(),
        sa.Column("quantity", sa.String(), nullable=False),
        sa.Column("task", sa.String(), nullable=False),
        sa.Column("until", TIMESTAMP(timezone=True), nullable=False),
        sa.Column("words", sa.String(), nullable=False),
        at.copy(),
        by.copy(),
    )
    op.create_table(
        "skill_signing_ends",
        sa.Column("signing_id", sa.Uuid(), sa.ForeignKey("skill_signings.id"), primary_key=True),
        sa.Column("reason", sa.String(), nullable=False),
        at.copy(),
        by.copy(),
    )
    op.create_table(
        "skill_rules",
        sa.Column("id", sa.Integer(), sa.Identity(), primary_key=True),
        sa.Column("asks", sa.String(), nullable=False),
        at.copy(),
        by.copy(),
    )
    op.add_column("users", sa.Column("tour", sa.String(), nullable=False, server_default=""))
    op.execute("update users set tour = 'declined'")  # who is here already is not new
    op.alter_column("users", "tour", server_default=None)
    for table in (
        "practice_scenarios",
        "practice_attempts",
        "practice_results",
        "practice_assignments",
        "skill_signings",
        "skill_signing_ends",
        "skill_rules",
    ):
        op.execute(
            f"create trigger evidence before update or delete on {table} for each row execute function evidence_stays()"
        )
        op.execute(
            f"create trigger evidence_whole before truncate on {table} for each statement execute function evidence_stays()"
        )


def _worlds() -> None:
    # The name of a schema is made of a person's id here, so that no caller chooses one. Whatever names a table of ours in
    # a definition is written with its schema, as the search path holds none but PostgreSQL's own.
    op.execute(
        f"""
        create function make_practice_world(person uuid) returns text language plpgsql security definer
        set search_path = pg_catalog set client_min_messages = warning as $$
        declare
            world text := 'practice_' || replace(person::text, '-', '');
            which record;
            may record;
        begin
            if not exists (select from public.users where id = person) then
                raise exception 'a world is made for a person' using errcode = 'no_data_found';
            end if;
            perform pg_advisory_xact_lock(hashtext('brumel: ' || world));
            execute format('drop schema if exists %I cascade', world);
            execute format('create schema %I', world);
            execute format('grant usage on schema %I to %I', world, session_user);
            for which in
                select c.oid, c.relname, c.relkind, pg_get_partkeydef(c.oid) as split from pg_class c
                where c.relnamespace = 'public'::regnamespace and c.relkind in ('r', 'p') and not c.relispartition
                    and c.relname <> 'alembic_version'
            loop
                execute format('create table %I.%I (like public.%I including defaults including identity including '
                    'generated including constraints) %s', world, which.relname, which.relname,
                    case when which.relkind = 'p' then 'partition by ' || which.split else '' end);
                if which.relkind = 'p' then
                    execute format('create table %I.%I partition of %I.%I default', world, which.relname || '_rest', world,
                        which.relname);
                end if;
                for may in
                    select a.privilege_type, null::name as column_name
                    from pg_class c, aclexplode(c.relacl) a where c.oid = which.oid and a.grantee = session_user::regrole
                    union all
                    select a.privilege_type, t.attname
                    from pg_attribute t, aclexplode(t.attacl) a
                    where t.attrelid = which.oid and a.grantee = session_user::regrole
                loop
                    execute format('grant %s%s on %I.%I to %I', may.privilege_type,
                        coalesce('(' || quote_ident(may.column_name) || ')', ''), world, which.relname, session_user);
                end loop;
            end loop;
            for which in
                select c.relname, n.conname, pg_get_constraintdef(n.oid) as words from pg_constraint n
                join pg_class c on c.oid = n.conrelid
                where c.relnamespace = 'public'::regnamespace and not c.relispartition and c.relname <> 'alembic_version'
                    and n.contype in ('p', 'u', 'f') order by n.contype = 'f'
            loop
                execute format('alter table %I.%I add constraint %I %s', world, which.relname, which.conname,
                    regexp_replace(which.words, '\\mpublic\\M', world, 'g'));
            end loop;
            for which in
                select pg_get_indexdef(i.indexrelid) as words from pg_index i join pg_class c on c.oid = i.indrelid
                where c.relnamespace = 'public'::regnamespace and not c.relispartition and c.relname <> 'alembic_version'
                    and not exists (select from pg_constraint n where n.conindid = i.indexrelid and n.contype in ('p', 'u'))
            loop
                execute replace(regexp_replace(which.words, '\\mpublic\\M', world, 'g'), ' ON ONLY ', ' ON ');
            end loop;
            for which in
                select pg_get_functiondef(p.oid) as words from pg_proc p
                where p.pronamespace = 'public'::regnamespace and p.proname not in ({NOT_OF_A_WORLD})
                    and not exists (select from pg_depend d where d.objid = p.oid and d.deptype = 'e')
            loop
                execute regexp_replace(which.words, '\\mpublic\\M', world, 'g');
            end loop;
            for which in
                select pg_get_triggerdef(t.oid) as words from pg_trigger t join pg_class c on c.oid = t.tgrelid
                where c.relnamespace = 'public'::regnamespace and not c.relispartition and not t.tgisinternal
                    and t.tgparentid = 0
            loop
                execute regexp_replace(which.words, '\\mpublic\\M', world, 'g');
            end loop;
            return world;
        end $$
        """
    )
    op.execute(
        """
        create function drop_practice_world(person uuid) returns void language plpgsql security definer
        set search_path = pg_catalog set client_min_messages = warning as $$
        begin
            perform pg_advisory_xact_lock(hashtext('brumel: practice_' || replace(person::text, '-', '')));
            execute format('drop schema if exists %I cascade', 'practice_' || replace(person::text, '-', ''));
        end $$
        """
    )
    for function in ("make_practice_world(uuid)", "drop_practice_world(uuid)"):
        op.execute(f"revoke all on function {function} from public")


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
