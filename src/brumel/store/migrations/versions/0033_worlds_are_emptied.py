"""a practice world that is there is emptied, not made anew: its learner waits a twentieth of the time"""

from alembic import op

revision = "0033"
down_revision = "0032"

#: In a world, what guards evidence lets the tables' owner delete, who empties it; the application's role has no such right.
LETS_THE_OWNER = (
    "begin if tg_op = 'DELETE' and current_user = (select pg_get_userbyid(relowner) from pg_class where oid = tg_relid) "
    "then return old; end if;"
)


def upgrade() -> None:
    op.execute(
        """
        create function empty_practice_world(world text) returns void language plpgsql
        set search_path = pg_catalog as $$
        declare
            tables text;
            everything text;
        begin
            select string_agg(format('%I.%I', world, c.relname), ', ' order by c.relname),
                string_agg(format('%I as (delete from %I.%I)', 'of_' || c.relname, world, c.relname), ', ')
            into tables, everything from pg_class c
            where c.relnamespace = world::regnamespace and c.relkind in ('r', 'p') and not c.relispartition;
            -- Whoever writes there just now is waited for, as the meter that stores a sample.
            execute 'lock table ' || tables || ' in share row exclusive mode';
            -- One statement, so that whatever refers to another row of the world goes with it.
            execute 'with ' || everything || ' select';
            perform setval(s.seqrelid, s.seqstart, false) from pg_sequence s join pg_class c on c.oid = s.seqrelid
            where c.relnamespace = world::regnamespace;
        end $$
        """
    )
    op.execute("revoke all on function empty_practice_world(text) from public")
    _changed("perform pg_advisory_xact_lock(hashtext('brumel: ' || world));", "\\&" + _EMPTIES)
    _changed("'make_practice_world', 'drop_practice_world'", "\\&, 'empty_practice_world'")
    _changed(
        "select pg_get_functiondef(p.oid) as words from pg_proc p",
        "select case when p.proname in ('evidence_stays', 'key_is_filled_once') then "
        f"regexp_replace(pg_get_functiondef(p.oid), '\\mbegin\\M', $guard${LETS_THE_OWNER}$guard$) "
        "else pg_get_functiondef(p.oid) end as words from pg_proc p",
    )


#: An upgrade throws all worlds away, so that one which is there has the tables of this version.
_EMPTIES = """
            if has_schema_privilege(session_user, to_regnamespace(world)::oid, 'usage') then
                perform public.empty_practice_world(world);
                return world;
            end if;
"""


def _changed(known: str, now: str) -> None:
    """Put other words into the function that makes worlds, in the place of some that are known."""
    op.execute(
        f"""
        do $change$
        declare
            was text := pg_get_functiondef('make_practice_world(uuid)'::regprocedure);
            known text := $known${known}$known$;
        begin
            if position(known in was) = 0 then
                raise exception 'the function that makes worlds is not the one of 0032';
            end if;
            execute replace(was, known, replace($now${now}$now$, '\\&', known));
        end $change$
        """
    )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
