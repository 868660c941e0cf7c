import { spawn } from 'node:child_process'
import { existsSync, renameSync, rmSync, statSync } from 'node:fs'
import { basename, join } from 'node:path'
import pg from 'pg'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { MIGRATIONS } from '../db/migrations.ts'

/**
 * Everything there is (jobs, files, scanners, calibrations) in one file, written by PostgreSQL's own program from one moment, while all goes on.
 * What waits in the queue is not in it: workers find waiting steps by themselves.
 * bin: folder of PostgreSQL's programs. Gives the bytes of the file. Throws 'exists', 'backup-failed'.
 */
export async function backup(url: string, bin: string, file: string): Promise<number> {
  if (existsSync(file)) throw new OakError('exists', 'There is a file of that name already.', { where: file, remedy: 'Choose another name, or move it away.' })
  // half of a backup must never look like one
  const part = `${file}.part`
  try {
    // points are numbers that hardly shrink: the quickest way of packing
    await run(
      join(bin, 'pg_dump'),
      ['--dbname', open(url), '--format=custom', '--compress=1', '--schema=public', '--no-owner', '--no-privileges', '--file', part],
      secret(url),
    )
    renameSync(part, file)
  } catch (e) {
    rmSync(part, { force: true })
    throw new OakError('backup-failed', 'The backup could not be written.', {
      where: (e as Error).message,
      remedy: 'Look whether there is room, and whether the folder may be written to.',
      cause: e,
    })
  }
  return statSync(file).size
}

/**
 * Puts a backup in the place of what there is, all of it or nothing, while the program runs: its processes begin anew afterwards, and bring a backup of an earlier version up to date.
 * replace: also where there are jobs already.
 * Throws 'no-backup' (damaged, or something else), 'newer' (written by a later version), 'not-empty', 'busy', 'restore-failed'.
 */
export async function restore(url: string, bin: string, file: string, replace = false): Promise<void> {
  if (!existsSync(file)) throw new OakError('no-backup', 'There is no such file.', { where: file, remedy: 'Look for its name.' })
  const client = new pg.Client({ connectionString: url })
  await client.connect()
  try {
    await mayBeRestored(bin, file)
    await mayBeReplaced(client, replace)
    await inOne(url, bin, file)
    await client.query('select pg_notify($1, $2)', ['oak', JSON.stringify({ to: 'all', restored: true })])
  } finally {
    await client.end()
  }
}

async function mayBeRestored(bin: string, file: string): Promise<void> {
  const read = (what: string[]) =>
    run(join(bin, 'pg_restore'), [...what, file]).catch((e: unknown) => {
      throw new OakError('no-backup', `${basename(file)} is no backup of Oak Gauge, or it is damaged.`, {
        where: (e as Error).message,
        remedy: 'Take another one.',
        cause: e,
      })
    })
  const list = await read(['--list'])
  if (!/TABLE DATA public step /.test(list))
    throw new OakError('no-backup', `${basename(file)} is no backup of Oak Gauge.`, { where: file, remedy: 'Take another one.' })
  const versions = (await read(['--data-only', '--table=migration', '--file=-'])).match(/^\d{3}-\S+$/gm) ?? []
  const later = versions.filter((v) => !MIGRATIONS.some((m) => m.name === v))
  if (later.length)
    throw new OakError('newer', 'The backup was written by a later version of Oak Gauge.', {
      where: later.join(', '),
      remedy: 'Restore it with that version or one that follows it.',
    })
}

async function mayBeReplaced(client: pg.Client, replace: boolean): Promise<void> {
  const table = async (name: string) =>
    (await client.query<{ found: string | null }>('select to_regclass($1)::text as found', [`public.${name}`])).rows[0]?.found !== null
  const count = async (what: string) => Number((await client.query<{ n: string }>(`select count(*) as n from ${what}`)).rows[0]?.n)
  if (!(await table('job'))) return
  if (await table('session'))
    if (await count("session where state = 'open'")) throw new OakError('busy', 'A scanner is at work.', { remedy: 'End what goes on with it first.' })
  if (await count("step where state = 'running'")) throw new OakError('busy', 'A step is being computed.', { remedy: 'Wait for it, or cancel it.' })
  const jobs = await count('job where not demo')
  if (jobs && !replace)
    throw new OakError('not-empty', `There ${jobs === 1 ? 'is a job' : `are ${jobs} jobs`} here that the backup would take the place of.`, {
      remedy: 'Back up what there is first; then say --replace.',
    })
}

/** Drops what there is and makes what was, in one transaction. It is ended only when all of the backup was read: one that breaks off in the middle changes nothing. */
async function inOne(url: string, bin: string, file: string): Promise<void> {
  const script = spawn(join(bin, 'pg_restore'), ['--no-owner', '--no-privileges', '--file=-', file], { stdio: ['ignore', 'pipe', 'pipe'] })
  const psql = spawn(join(bin, 'psql'), ['--dbname', open(url), '--no-psqlrc', '--quiet', '--set', 'ON_ERROR_STOP=1'], {
    stdio: ['pipe', 'ignore', 'pipe'],
    env: { ...secret(url), PGOPTIONS: '-c client_min_messages=error' },
  })
  const read = endOf(script)
  const written = endOf(psql)
  // one that stopped at an error reads no further
  psql.stdin.on('error', () => script.kill())
  psql.stdin.write('begin; drop schema if exists public cascade;\n')
  script.stdout.pipe(psql.stdin, { end: false })
  const { code, said } = await read
  psql.stdin.end(code === 0 ? '\ncommit;\n' : '\nrollback;\n')
  const end = await written
  if (code !== 0 || end.code !== 0)
    throw new OakError('restore-failed', 'The backup could not be restored; all is as it was.', {
      where: `${said} ${end.said}`.trim().split('\n').slice(0, 3).join(' '),
      remedy: 'Look whether the file is whole and whether there is room for it, and try again.',
    })
}

function endOf(child: ReturnType<typeof spawn>): Promise<{ code: number | null; said: string }> {
  let said = ''
  child.stderr?.on('data', (b: Buffer) => (said += b.toString()))
  return new Promise((resolve, reject) => {
    child.on('error', reject)
    child.on('close', (code) => resolve({ code, said }))
  })
}

/** An address without its password: what a program is called with can be read by everybody on the machine. */
const open = (url: string) => Object.assign(new URL(url), { password: '' }).href
const secret = (url: string): NodeJS.ProcessEnv => {
  const { password } = new URL(url)
  return password ? { ...process.env, PGPASSWORD: decodeURIComponent(password) } : process.env
}

/** What a program says on standard output. Throws with what it says of its fault. */
async function run(program: string, args: string[], env = process.env): Promise<string> {
  const child = spawn(program, args, { stdio: ['ignore', 'pipe', 'pipe'], env })
  let out = ''
  child.stdout.on('data', (b: Buffer) => (out += b.toString()))
  const { code, said } = await endOf(child)
  if (code !== 0) throw new Error(said.trim().split('\n').slice(0, 3).join(' '))
  return out
}
