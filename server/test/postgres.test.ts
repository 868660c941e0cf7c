import { afterAll, afterEach, describe, expect, test } from '@jest/globals'
import { spawn, type ChildProcess } from 'node:child_process'
import { existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { createServer } from 'node:net'
import { tmpdir } from 'node:os'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'
import pg from 'pg'
import { claim, freePort, isFree, startCluster, type Cluster } from '../src/postgres.ts'
import { until } from './help.ts'

/** A checkout of its own, so that the database of a person who works here is left alone. */
const root = mkdtempSync(join(tmpdir(), 'oak-root-'))
let home = ''
let running: Cluster | undefined
afterAll(() => {
  running?.stop()
  rmSync(root, { recursive: true, force: true })
  if (home) rmSync(home, { recursive: true, force: true })
})

async function ask<R extends object>(url: string, sql: string): Promise<R[]> {
  const client = new pg.Client({ connectionString: url })
  await client.connect()
  try {
    return (await client.query<R>(sql)).rows
  } finally {
    await client.end()
  }
}
const portOf = (c: Cluster) => Number(new URL(c.url).port)

describe('the private PostgreSQL', () => {
  test('listens on loopback only, with a password, and keeps checksums', async () => {
    running = await startCluster({ root })
    const [{ data_directory: data }] = await ask<{ data_directory: string }>(running.url, 'show data_directory')
    home = dirname(data)
    expect(await ask(running.url, 'show listen_addresses')).toEqual([{ listen_addresses: '127.0.0.1' }])
    expect(await ask(running.url, 'show data_checksums')).toEqual([{ data_checksums: 'on' }])
    const nobody = new URL(running.url)
    nobody.password = 'guess'
    await expect(ask(nobody.href, 'select 1')).rejects.toThrow('password')
    await ask(running.url, "create table kept (what text); insert into kept values ('a job')")
  }, 60_000)
  test('a second start finds the one that runs', async () => {
    expect((await startCluster({ root })).url).toBe(running?.url)
  })
  test('killed, its lock file stays; the next start clears it away, and nothing is lost', async () => {
    const url = running?.url ?? ''
    const lock = join(home, 'pg', 'postmaster.pid')
    process.kill(Number(readFileSync(lock, 'utf8').split('\n')[0]), 'SIGKILL')
    await new Promise((resolve) => setTimeout(resolve, 500))
    expect(existsSync(lock)).toBe(true)
    running = await startCluster({ root })
    expect(running.url).toBe(url)
    expect(await ask(running.url, 'select what from kept')).toEqual([{ what: 'a job' }])
  }, 60_000)
  test('a lock file with the number of some other program', async () => {
    const lock = join(home, 'pg', 'postmaster.pid')
    const lines = readFileSync(lock, 'utf8').split('\n')
    running?.stop()
    writeFileSync(lock, [String(process.pid), ...lines.slice(1)].join('\n'))
    running = await startCluster({ root })
    expect(await ask(running.url, 'select what from kept')).toEqual([{ what: 'a job' }])
  }, 60_000)
  test('its port was taken meanwhile: it takes another', async () => {
    const before = portOf(running as Cluster)
    running?.stop()
    const other = createServer()
    await new Promise<void>((resolve) => other.listen(before, '127.0.0.1', resolve))
    try {
      running = await startCluster({ root })
      expect(portOf(running)).not.toBe(before)
      expect(await ask(running.url, 'select what from kept')).toEqual([{ what: 'a job' }])
    } finally {
      other.close()
    }
  }, 60_000)
  test('a set-up that was broken off is begun again', async () => {
    running?.stop()
    running = undefined
    rmSync(join(home, 'pg'), { recursive: true })
    mkdirSync(join(home, 'pg.new', 'half'), { recursive: true })
    running = await startCluster({ root })
    expect(await ask(running.url, 'select 1 as one')).toEqual([{ one: 1 }])
    expect(existsSync(join(home, 'pg.new'))).toBe(false)
  }, 60_000)
  test('a throwaway one leaves nothing behind', async () => {
    const one = await startCluster({ root, throwaway: true })
    const [{ data_directory: data }] = await ask<{ data_directory: string }>(one.url, 'show data_directory')
    expect(data).not.toContain(home)
    one.stop()
    expect(existsSync(dirname(data))).toBe(false)
  }, 60_000)
})

describe('the program as ./start runs it', () => {
  const server = fileURLToPath(new URL('../../.build/server.js', import.meta.url))
  const children: ChildProcess[] = []
  // one that a test that failed left behind
  afterEach(async () => {
    for (const child of children.splice(0)) {
      child.kill('SIGTERM')
      await ended(child)
    }
  })
  /** Of a process that may be gone by now. */
  const proc = (pid: string, file: string) => {
    try {
      return readFileSync(`/proc/${pid}/${file}`, 'utf8')
    } catch {
      return ''
    }
  }
  const processes = (named: string) => readdirSync('/proc').filter((p) => /^\d+$/.test(p) && proc(p, 'cmdline').includes(named))
  /** Number of the process of this program that runs such a file. */
  const part = async (of: ChildProcess, named: string): Promise<number> => {
    const find = () => processes(named).find((p) => proc(p, 'stat').split(') ')[1]?.split(' ')[1] === String(of.pid))
    return Number(
      await until(
        () => Promise.resolve(find()),
        (p) => p !== undefined,
      ),
    )
  }
  const start = (port: number): { child: ChildProcess; said: () => string; ready: Promise<string> } => {
    let text = ''
    const child = spawn(process.execPath, [server], {
      env: { ...process.env, OAK_THROWAWAY: '1', OAK_DEMO: 'none', OAK_LOG: 'warn', PORT: String(port), NODE_OPTIONS: '' },
      stdio: ['ignore', 'pipe', 'pipe', 'ipc'],
    })
    const ready = new Promise<string>((resolve, reject) => {
      const hear = (b: Buffer) => {
        text += b.toString()
        const found = /Oak Gauge is ready: {2}(http:\S+)/.exec(text)
        if (found) resolve(found[1])
      }
      child.stdout?.on('data', hear)
      child.stderr?.on('data', hear)
      child.on('exit', () => reject(new Error(text)))
      setTimeout(() => reject(new Error(`not ready: ${text}`)), 60_000).unref()
    })
    children.push(child)
    return { child, said: () => text, ready }
  }
  /** Its exit code. */
  const ended = (child: ChildProcess) =>
    new Promise((resolve) => (child.exitCode === null && child.signalCode === null ? child.on('exit', resolve) : resolve(child.exitCode)))
  test('serves pages and answers, and ends at once when it is told to', async () => {
    const { child, ready } = start(await freePort())
    const url = await ready
    const page = await fetch(url)
    expect(page.headers.get('content-security-policy')).toContain("default-src 'self'")
    expect(page.headers.get('cross-origin-opener-policy')).toBe('same-origin')
    expect(await page.text()).toContain('<div id="root">')
    // any address of the application is the application; one under /api is not
    expect((await fetch(`${url}/jobs/some-job/Merge`)).headers.get('content-type')).toContain('text/html')
    expect((await fetch(`${url}/api/v1/nothing`)).status).toBe(404)
    expect(await (await fetch(`${url}/api/v1/health`)).json()).toMatchObject({ ok: true })
    const began = Date.now()
    child.kill('SIGTERM')
    expect(await ended(child)).toBe(0)
    expect(Date.now() - began).toBeLessThan(15_000)
  }, 90_000)
  test('ends with the program that started it, however that ended', async () => {
    const { child, ready } = start(await freePort())
    await ready
    const parts = await Promise.all(['http.js', 'sessions.js', 'worker.js'].map((name) => part(child, name)))
    child.disconnect()
    expect(await ended(child)).toBe(0)
    expect(parts.filter((p) => proc(String(p), 'cmdline') !== '')).toEqual([])
  }, 90_000)
  test('its port in use: says so, and takes another', async () => {
    const other = createServer()
    const port = await freePort()
    await new Promise<void>((resolve) => other.listen(port, '127.0.0.1', resolve))
    expect(await isFree(port)).toBe(false)
    const { child, said, ready } = start(port)
    try {
      const url = await ready
      expect(new URL(url).port).not.toBe(String(port))
      expect(said()).toContain(`Port ${port} is in use`)
      expect((await fetch(`${url}/api/v1/health`)).status).toBe(200)
    } finally {
      other.close()
      child.kill('SIGTERM')
      await ended(child)
    }
  }, 90_000)
  test('a worker that dies is replaced: a step goes on', async () => {
    const { child, ready } = start(await freePort())
    const url = await ready
    try {
      const job = (await (
        await fetch(`${url}/api/v1/jobs`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"title":"x"}' })
      ).json()) as { job: { id: string } }
      const lines = Array.from({ length: 400 }, (_, i) => `${i % 20} ${Math.floor(i / 20)} 5`).join('\n')
      process.kill(await part(child, 'worker.js'), 'SIGKILL')
      await fetch(`${url}/api/v1/jobs/${job.job.id}/files?name=p.xyz`, { method: 'PUT', body: lines })
      const tray = async () => ((await (await fetch(`${url}/api/v1/jobs/${job.job.id}`)).json()) as { tray: unknown[] }).tray
      expect(await until(tray, (t) => t.length > 0, 60)).toHaveLength(1)
    } finally {
      child.kill('SIGTERM')
      await ended(child)
    }
  }, 120_000)
  test.each(['http', 'sessions', 'the database'])(
    '%s is killed: all answers as before, at the same address',
    async (what) => {
      const { child, ready } = start(await freePort())
      const url = await ready
      try {
        const made = await fetch(`${url}/api/v1/jobs`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"title":"kept"}' })
        const { job } = (await made.json()) as { job: { id: string } }
        const pid = what === 'the database' ? Number(processes(`/test-${child.pid}-`)[0]) : await part(child, `${what}.js`)
        expect(pid).toBeGreaterThan(1)
        process.kill(pid, 'SIGKILL')
        // neither a job nor a scanner is asked for in vain for long, nor without an answer
        const status = (path: string) =>
          fetch(`${url}/api/v1${path}`, { signal: AbortSignal.timeout(10_000) }).then(
            (r) => r.status,
            (e: Error) => e.message,
          )
        const answers = async () => [await status(`/jobs/${job.id}`), await status('/scanners')]
        await until(answers, (all) => all.every((a) => a === 200), 40)
      } finally {
        child.kill('SIGTERM')
        expect(await ended(child)).toBe(0)
      }
    },
    120_000,
  )
  test('a web server that dies before it has said that it is ready: the next one says it', async () => {
    const { child, ready } = start(await freePort())
    process.kill(await part(child, 'http.js'), 'SIGKILL')
    expect((await fetch(`${await ready}/api/v1/health`)).status).toBe(200)
  }, 90_000)
  test('a checkout that runs already is told of, with its address; one whose program has ended is not', () => {
    const root = mkdtempSync(join(tmpdir(), 'oak-claim-'))
    const first = claim(root)
    try {
      expect(first.by).toBeNull()
      first.tell('http://127.0.0.1:4180')
      // as if whoever started this test had claimed it
      const { file } = first
      const owner = JSON.parse(readFileSync(file, 'utf8')) as { pid: number; program: string }
      writeFileSync(file, JSON.stringify({ ...owner, pid: process.ppid, program: readFileSync(`/proc/${process.ppid}/cmdline`, 'utf8') }))
      expect(claim(root).by).toBe('http://127.0.0.1:4180')
      // the number has gone to another program
      writeFileSync(file, JSON.stringify({ ...owner, pid: process.ppid, program: 'node something-else' }))
      expect(claim(root).by).toBeNull()
      writeFileSync(file, 'half writ')
      const last = claim(root)
      expect(last.by).toBeNull()
      last.give()
      expect(existsSync(file)).toBe(false)
    } finally {
      rmSync(dirname(first.file), { recursive: true, force: true })
      rmSync(root, { recursive: true, force: true })
    }
  })
})
