"""visits are found among a hundred thousand: by site and person in time, by what they read, and by words"""

from alembic import op

revision = "0032"
down_revision = "0031"


def upgrade() -> None:
    # Each takes the place of an index on its first column alone.
    op.execute("create index readings_by_visit on readings (visit_id, quantity)")
    op.execute("drop index ix_readings_visit_id")
    op.execute("create index visits_by_site on visits (site_id, at, id)")
    op.execute("drop index ix_visits_site_id")
    op.execute("create index visits_by_person on visits (operator_id, at, id)")
    # A world of Practice is small, and sees no extension: it does without the indexes below.
    op.execute(
        """
        do $$
        declare
            was text := pg_get_functiondef('make_practice_world(uuid)'::regprocedure);
            known text := 'not exists (select from pg_constraint n where n.conindid = i.indexrelid';
        begin
            if position(known in was) = 0 then
                raise exception 'the function that makes worlds is not the one of 0028';
            end if;
            execute replace(was, known, 'pg_get_indexdef(i.indexrelid) not like ''% USING gin %'' and ' || known);
        end $$
        """
    )
    # Parts of words are found by PostgreSQL's own trigrams, a part of its server package. Where the owner of the tables may
    # not add them, the same is found by reading every reason and note.
    op.execute(
        """
        do $$ begin
            create extension if not exists pg_trgm;
            create index readings_reason_words on readings using gin (reason gin_trgm_ops) where reason <> '';
            create index visit_notes_words on visit_notes using gin ((body::text) gin_trgm_ops) where kind = 'note';
        exception when insufficient_privilege or undefined_file or feature_not_supported then
            raise notice 'pg_trgm may not be added here: searches for words stay slow in large databases';
        end $$
        """
    )


def downgrade() -> None:
    raise NotImplementedError("evidence is not taken down")
