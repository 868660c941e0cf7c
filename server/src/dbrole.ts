import { existsSync, readFileSync, writeFileSync } from 'node:fs'
import { randomBytes } from 'node:crypto'
import pg from 'pg'

const ROLE = 'gauge'

/**
 * The role that the program works with: it owns its database, sees where the data lie, and may nothing else, so that no statement of ours reaches files or
 * programs of the machine. Jobs of earlier versions were the administrator's and are handed over. All of it or nothing. Returns the address with that role.
 */
export async function withoutSuperuser(admin: string, passwordFile: string): Promise<string> {
  const anew = !existsSync(passwordFile)
  if (anew) writeFileSync(passwordFile, randomBytes(18).toString('hex'), { mode: 0o600 })
  const password = readFileSync(passwordFile, 'utf8').trim()
  const client = new pg.Client({ connectionString: admin })
  await client.connect()
  try {
    const { rows } = await client.query('select 1 from pg_roles where rolname = $1', [ROLE])
    if (rows.length && anew) await client.query(`alter role ${ROLE} password '${password}'`)
    if (!rows.length)
      await client.query(`begin;
        create role ${ROLE} login nosuperuser nocreatedb nocreaterole password '${password}';
        grant pg_monitor to ${ROLE};
        alter database postgres owner to ${ROLE};
        ${HAND_OVER}
        commit`)
  } finally {
    await client.end()
  }
  return Object.assign(new URL(admin), { username: ROLE, password }).href
}

/** What the administrator owns in our schemas. Parts of a divided table and what belongs to a column go with their tables. */
export const HAND_OVER = `
do $$ declare r record; begin
  for r in select format('alter schema %I owner to ${ROLE}', nspname) as change from pg_namespace where nspname in ('public', 'pgboss') loop execute r.change; end loop;
  for r in select format('alter table %s owner to ${ROLE}', c.oid::regclass) as change from pg_class c
    where relnamespace in (select oid from pg_namespace where nspname in ('public', 'pgboss')) and relkind in ('r', 'p', 'v') loop execute r.change; end loop;
  for r in select format('alter routine %s owner to ${ROLE}', p.oid::regprocedure) as change from pg_proc p
    where pronamespace in (select oid from pg_namespace where nspname in ('public', 'pgboss')) loop execute r.change; end loop;
  for r in select format('alter type %s owner to ${ROLE}', t.oid::regtype) as change from pg_type t
    where typnamespace in (select oid from pg_namespace where nspname in ('public', 'pgboss')) and typtype = 'e' loop execute r.change; end loop;
  for r in select format('alter sequence %s owner to ${ROLE}', c.oid::regclass) as change from pg_class c
    where relnamespace in (select oid from pg_namespace where nspname in ('public', 'pgboss')) and relkind = 'S'
    and not exists (select 1 from pg_depend d where d.objid = c.oid and d.deptype in ('a', 'i')) loop execute r.change; end loop;
end $$;`
