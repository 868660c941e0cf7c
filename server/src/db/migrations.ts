import type { QueryInterface } from 'sequelize'
import { SequelizeStorage, Umzug } from 'umzug'
import type { Sequelize } from 'sequelize'

export const MIGRATIONS: { name: string; up: string }[] = [
  {
    name: '001-ledger',
    up: `
create table job (
  id uuid primary key default gen_random_uuid(), title text not null, part text not null default '', purpose text not null,
  tolerance double precision, surface text not null, notes text not null default '', demo boolean not null default false,
  head uuid, tip uuid, picture text, created_at timestamptz not null default now(), updated_at timestamptz not null default now());
create table setup (
  id uuid primary key default gen_random_uuid(), job_id uuid not null references job on delete cascade, name text not null, place int not null);
create table slot (
  id uuid primary key, job_id uuid not null references job on delete cascade, role text not null, setup_id uuid references setup on delete set null);
create table blob (
  id uuid primary key default gen_random_uuid(), sha256 text unique, bytes bigint not null default 0, name text, created_at timestamptz not null default now());
create table blob_chunk (
  blob_id uuid not null references blob on delete cascade, n int not null, data bytea not null, primary key (blob_id, n));
alter table blob_chunk alter column data set storage external;
create table step (
  id uuid primary key default gen_random_uuid(), seq bigserial not null, job_id uuid not null references job on delete cascade, parent uuid,
  operation text not null, version int not null, params jsonb not null, inputs jsonb not null, slots jsonb not null default '{}',
  key text, state text not null default 'queued', chained boolean not null default false, preview boolean not null default false,
  batch uuid, origin uuid, cancel boolean not null default false, attempts int not null default 0, progress real not null default 0, phase text not null default '',
  evidence jsonb, problem jsonb, milliseconds double precision, reused boolean not null default false,
  file_id uuid references blob, file_name text, file_role text, setup_id uuid,
  created_at timestamptz not null default now(), started_at timestamptz, finished_at timestamptz);
create index step_job on step (job_id, seq);
create index step_key on step (key) where state = 'done';
create index step_open on step (job_id, seq) where state in ('queued', 'running');
create table item (
  id uuid primary key default gen_random_uuid(), step_id uuid not null references step on delete cascade, job_id uuid not null references job on delete cascade,
  slot_id uuid, port text not null, place int not null, name text not null, kind text not null, arrays jsonb not null, meta jsonb not null,
  pose jsonb not null, display jsonb not null, on_slot uuid);
create index item_step on item (step_id);
create index item_job on item (job_id);
`,
  },
  {
    // how many of the demo jobs have been made: a start that was broken off goes on, a demo job that was deleted stays deleted
    name: '002-demo',
    up: 'create table demo_made (title text primary key, at timestamptz not null default now());',
  },
  {
    // pictures belong to steps: stepping back shows the part as it was, and a step that is looked up brings its picture along
    name: '003-pictures',
    up: 'alter table step add picture text; update step set picture = job.picture from job where step.id = job.head; alter table job drop picture;',
  },
  {
    name: '004-scanners',
    up: `
create table scanner (
  id uuid primary key default gen_random_uuid(), name text not null, model text not null, serial text not null unique, address text,
  stand_in jsonb, switched_on boolean not null default false, spec jsonb not null, calibration_id uuid,
  shock_at timestamptz, used_at timestamptz, created_at timestamptz not null default now());
create table artefact (
  id uuid primary key default gen_random_uuid(), kind text not null, certificate jsonb not null, created_at timestamptz not null default now());
create table calibration (
  id uuid primary key default gen_random_uuid(), scanner_id uuid not null references scanner, previous_id uuid references calibration,
  at timestamptz not null default now(), state text not null, way text not null, plate jsonb not null, celsius double precision not null,
  cold boolean not null, observations jsonb not null, result jsonb, judgement jsonb);
create index calibration_scanner on calibration (scanner_id, at);
create table verification (
  id uuid primary key default gen_random_uuid(), scanner_id uuid not null references scanner, calibration_id uuid references calibration,
  at timestamptz not null default now(), bar jsonb not null, celsius double precision not null, cold boolean not null, limits jsonb not null,
  readings jsonb not null, result jsonb not null);
create index verification_scanner on verification (scanner_id, at);
create table scanner_note (
  id uuid primary key default gen_random_uuid(), scanner_id uuid not null references scanner, at timestamptz not null default now(), text text not null);
alter table job add scanner uuid references scanner;
alter table step add recorded_with jsonb;
`,
  },
  {
    // quantities are asked for by id, not by the words that people read; the uncertainty of a flag was the expanded one (k = 2)
    name: '005-quantities',
    up: `
update step set evidence = jsonb_set(evidence, '{quantities}', (
  select coalesce(jsonb_agg(
    (x - 'name' - 'uncertainty') ||
    jsonb_build_object('id', case
      when x->>'name' ~ '^within .* mm$' then 'within'
      when x->>'name' = 'moved' and x->>'unit' = '' then 'markers-moved'
      when x->>'name' = 'markers' and operation = 'plan-markers' then 'markers-planned'
      else coalesce(renamed.id, trim(both '-' from regexp_replace(lower(x->>'name'), '[^a-z0-9]+', '-', 'g'))) end) ||
    case when x->>'name' ~ '^within .* mm$' then jsonb_build_object('at', substring(x->>'name' from '^within (.*) mm$')::double precision) else '{}' end ||
    case when x ? 'uncertainty' then jsonb_build_object('u', (x->>'uncertainty')::double precision * case when x->>'name' = 'deviation' then 0.5 else 1 end) else '{}' end
    order by n), '[]')
  from jsonb_array_elements(evidence->'quantities') with ordinality as list(x, n)
  left join (values ('95 % of the area within', 'area-95'), ('position, U (k = 2), rms', 'marker-u-rms'), ('position, U (k = 2), largest', 'marker-u-largest'),
    ('U', 'marker-u'), ('rms', 'deviation-rms'), ('mean', 'deviation-mean'), ('deviation, largest', 'reduced-largest'), ('deviation, rms', 'reduced-rms'),
    ('missing', 'markers-missing'), ('added', 'markers-added'), ('of it in agreement', 'overlap-agreed'), ('next best pose, score', 'rival-score')
  ) as renamed(name, id) on renamed.name = x->>'name'))
where exists (select 1 from jsonb_array_elements(evidence->'quantities') e where e ? 'name');
`,
  },
  {
    // the same request twice is one step; a step that stands in the ledger keeps its parent, and its parent stands: so that none is ever its own ancestor
    name: '006-ledger-order',
    up: `
alter table step add request uuid, add asked_after uuid, add attempt uuid;
create unique index step_request on step (job_id, request);
create function step_stays() returns trigger language plpgsql as $$
begin
  if tg_op = 'UPDATE' and old.chained and (not new.chained or new.parent is distinct from old.parent or new.job_id <> old.job_id) then
    raise exception 'a step of the ledger keeps its place';
  end if;
  if new.chained and (tg_op = 'INSERT' or not old.chained) and new.parent is not null
    and not exists (select 1 from step p where p.id = new.parent and p.job_id = new.job_id and p.chained and p.id <> new.id) then
    raise exception 'a step of the ledger stands behind another one';
  end if;
  return new;
end $$;
create trigger step_stays before insert or update of chained, parent, job_id on step for each row execute function step_stays();
`,
  },
  {
    // what goes on with a scanner outlives every process; one at a time with each. What was open in an older program cannot go on.
    name: '007-sessions',
    up: `
create table session (
  id uuid primary key default gen_random_uuid(), kind text not null, scanner_id uuid not null references scanner on delete cascade,
  job_id uuid references job on delete cascade, state text not null default 'open', holder uuid not null, options jsonb not null,
  progress jsonb not null default '{}', problem jsonb, created_at timestamptz not null default now(), ended_at timestamptz);
create unique index session_open on session (scanner_id) where state = 'open';
create table session_chunk (
  session_id uuid not null references session on delete cascade, n int not null, data bytea not null, primary key (session_id, n));
alter table session_chunk alter column data set storage external;
update calibration set state = 'cancelled' where state = 'open';
`,
  },
  {
    // what the bench shows of a job, as long as the print of the job is the same
    name: '008-cards',
    up: 'create table job_card (job_id uuid primary key references job on delete cascade, print text not null, card jsonb not null);',
  },
  {
    // problems have the words of RFC 9457
    name: '009-problem-detail',
    up: `
update step set problem = (problem - 'message') || jsonb_build_object('detail', problem->'message') where problem ? 'message';
update session set problem = (problem - 'message') || jsonb_build_object('detail', problem->'message') where problem ? 'message';
update session set progress = jsonb_set(progress, '{problem}', ((progress->'problem') - 'message') || jsonb_build_object('detail', progress->'problem'->'message'))
where jsonb_typeof(progress->'problem') = 'object' and (progress->'problem') ? 'message';
`,
  },
  {
    // which bytes an item wants is held by keys, so that nothing can be swept away that is spoken of; uploads may be gone on with after a break
    name: '010-references',
    up: `
alter table blob add touched_at timestamptz not null default now();
create table item_blob (
  item_id uuid not null references item on delete cascade, blob_id uuid not null references blob, primary key (item_id, blob_id));
create index item_blob_blob on item_blob (blob_id);
create index step_file on step (file_id);
create function item_wants(i item) returns table (sha text) language sql as $$
  select e.value->>'sha' from jsonb_each(i.arrays) e union select e.value->>'sha' from jsonb_each(i.display) e $$;
insert into item_blob select i.id, b.id from item i, item_wants(i) w join blob b on b.sha256 = w.sha;
create function item_holds() returns trigger language plpgsql as $$
begin
  delete from item_blob where item_id = new.id;
  insert into item_blob select new.id, b.id from item_wants(new) w join blob b on b.sha256 = w.sha;
  if exists (select 1 from item_wants(new) w where not exists (select 1 from blob b where b.sha256 = w.sha)) then
    raise exception 'numbers of an item are not stored' using errcode = 'OG001';
  end if;
  return null;
end $$;
create trigger item_holds after insert or update of arrays, display on item for each row execute function item_holds();
create table upload (
  id uuid primary key, job_id uuid not null references job on delete cascade, blob_id uuid references blob on delete set null,
  size bigint not null, told jsonb not null, step_id uuid, created_at timestamptz not null default now());
create index upload_job on upload (job_id);
`,
  },
]

/** Brings the database up to this version of the program. Safe to call at every start; several processes may. */
export async function migrate(db: Sequelize): Promise<void> {
  const umzug = new Umzug({
    migrations: MIGRATIONS.map((m) => ({
      name: m.name,
      up: ({ context }: { context: QueryInterface }) => context.sequelize.query(m.up).then(() => undefined),
    })),
    context: db.getQueryInterface(),
    storage: new SequelizeStorage({ sequelize: db, tableName: 'migration' }),
    logger: undefined,
  })
  // one program at a time: the lock is held while the changes run on connections of their own
  await db.transaction(async (transaction) => {
    await db.query('select pg_advisory_xact_lock(4180)', { transaction })
    await umzug.up()
  })
}
