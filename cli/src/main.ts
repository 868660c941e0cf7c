import { createReadStream, createWriteStream, existsSync, mkdirSync, readFileSync, renameSync, rmSync, statSync } from 'node:fs'
import { basename, dirname, join } from 'node:path'
import { once } from 'node:events'
import { parseArgs } from 'node:util'
import { z } from 'zod'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { checkCancelled, type RunContext } from '@oak-gauge/core/base/run.ts'
import { transformMesh } from '@oak-gauge/core/shape/mesh.ts'
import { placePoints } from '@oak-gauge/core/shape/points.ts'
import { lostIn, writeAny } from '@oak-gauge/core/formats/index.ts'
import { writePlacedMarkers } from '@oak-gauge/core/formats/markers.ts'
import { writeFieldCsv } from '@oak-gauge/core/formats/table.ts'
import type { ByteSource } from '@oak-gauge/core/formats/source.ts'
import type { Evidence, FileValue, Item, Operation } from '@oak-gauge/core/operations/operation.ts'
import { parseRecipe, runRecipe, type Recipe, type RecipeStepResult } from '@oak-gauge/core/operations/recipe.ts'
import { named, wordsOf } from '@oak-gauge/core/operations/quantities.ts'
import { operation, OPERATIONS, runOperation } from '@oak-gauge/core/operations/registry.ts'
import { cadProcess } from '@oak-gauge/cad'
import { letCollect, threadPool } from '@oak-gauge/threads'

const HELP = `oak: operations and recipes on files, without server or database

  oak list                          what there is
  oak describe OPERATION            inputs, settings with units and defaults
  oak run RECIPE.json --in NAME=FILE [--in NAME=FILE …] --out FOLDER
  oak run OPERATION --in PORT=FILE … --set SETTING=VALUE … --out FOLDER
  oak link-check ws://HOST:PORT     whether a bridge keeps the scanner link (docs/scanner-link.md)
  oak backup FILE                   all jobs, files and scanners of this checkout (or of DATABASE_URL), while it runs
  oak restore FILE [--replace]      puts a backup in the place of what there is

  --unit mm|cm|m|in|ft|um           unit of files that do not say theirs
  --format stl|ply|obj|3mf|xyz      of what an operation makes (default: ply; stl for meshes)
  --json                            evidence as JSON on standard output
  --threads N                       default: all cores

Ends with 0 when done, 1 when the data or settings are at fault, 2 for a wrong call, 130 when interrupted.
`

class Usage extends Error {}

async function main(argv: string[]): Promise<number> {
  const { values, positionals } = parse(argv)
  const [command, subject] = positionals
  if (values.help || !command) {
    process.stdout.write(HELP)
    return command || values.help ? 0 : 2
  }
  if (command === 'list') {
    for (const o of OPERATIONS) process.stdout.write(`${o.name.padEnd(14)} ${o.about}\n`)
    return 0
  }
  if (command === 'describe') {
    if (!subject) throw new Usage('describe what? See: oak list')
    const o = operation(subject)
    const { name, version, title, about, inputs, outputs } = o
    process.stdout.write(JSON.stringify({ name, version, title, about, inputs, outputs, settings: z.toJSONSchema(o.params, { io: 'input' }) }, null, 2) + '\n')
    return 0
  }
  if (command === 'link-check') {
    if (!subject) throw new Usage('link-check which address? Write it as ws://host:port')
    const { checkLink } = await import('@oak-gauge/scanners/check.ts')
    let failed = 0
    await checkLink(subject, ({ what, ok, note }) => {
      if (!ok) failed++
      process.stdout.write(`${ok ? 'kept  ' : 'BROKEN'}  ${what}${note ? `  (${note})` : ''}\n`)
    })
    process.stdout.write(failed ? `${failed} of the promises are not kept.\n` : 'The scanner keeps the link.\n')
    return failed ? 1 : 0
  }
  if (command !== 'run' || !subject) throw new Usage(`“${command}” is not a command`)
  letCollect()
  const pool = threadPool(values.threads ? Number(values.threads) : undefined)
  const interrupted = { aborted: false }
  process.on('SIGINT', () => {
    if (interrupted.aborted) {
      dropUnfinished()
      process.exit(130)
    }
    interrupted.aborted = true
  })
  const ctx: RunContext = { progress: progressBar(), signal: interrupted, parallel: pool, cad: cadProcess() }
  try {
    const isRecipe = subject.endsWith('.json')
    const { items: brought, files } = await bringIn(values.in ?? [], values.unit, ctx, isRecipe ? recipePorts(subject) : operation(subject).inputs)
    const out = values.out
    const report = isRecipe ? await runFile(subject, brought, out, ctx) : await runOne(subject, brought, files, values, ctx)
    clearBar()
    const steps = report.steps.map((s) => ({ ...s, evidence: { ...s.evidence, quantities: s.evidence.quantities.map(named) } }))
    if (values.json) process.stdout.write(JSON.stringify({ ...report, steps }, null, 2) + '\n')
    else for (const s of report.steps) print(s)
    for (const f of report.files) process.stderr.write(`wrote ${f}\n`)
    return 0
  } finally {
    await pool.close()
  }
}

function parse(argv: string[]) {
  try {
    return parseArgs({
      args: argv,
      allowPositionals: true,
      options: {
        in: { type: 'string', multiple: true },
        set: { type: 'string', multiple: true },
        out: { type: 'string' },
        unit: { type: 'string' },
        format: { type: 'string' },
        json: { type: 'boolean' },
        threads: { type: 'string' },
        help: { type: 'boolean', short: 'h' },
      },
    })
  } catch (e) {
    throw new Usage((e as Error).message)
  }
}

interface Report {
  steps: RecipeStepResult[]
  files: string[]
}

function readRecipe(path: string): Recipe {
  let json: unknown
  try {
    json = JSON.parse(readFileSync(path, 'utf8'))
  } catch (e) {
    throw new OakError('bad-recipe', `The recipe cannot be read: ${(e as Error).message}`, { where: path, remedy: 'Check the file.' })
  }
  return parseRecipe(json)
}

async function runFile(path: string, brought: Map<string, Item[]>, out: string | undefined, ctx: RunContext): Promise<Report> {
  const recipe = readRecipe(path)
  if (recipe.deliver.length && !out) throw new Usage('the recipe delivers files: say --out FOLDER')
  const { items, steps, on } = await runRecipe(recipe, brought, ctx, () => performance.now())
  const files: string[] = []
  for (const d of recipe.deliver) {
    const [item] = items.get(d.item) ?? []
    if (!item) throw new OakError('missing-input', `The recipe delivers “${d.item}”, which no step made.`, { where: path })
    const file = join(out as string, basename(d.file))
    if (item.data.kind === 'field') {
      const [at] = items.get(on.get(d.item) ?? '') ?? []
      if (!at) throw new OakError('missing-input', `No mesh or points belong to “${d.item}”.`)
      await writeFile(file, writeFieldCsv(item.data, at), ctx)
    } else {
      if (d.format === 'csv') throw new OakError('wrong-format', `“${d.item}” is no table; write it as STL, PLY, OBJ, 3MF or XYZ.`)
      await writeFile(file, writeAny(d.format, placed(item), item.name), ctx)
      sayLost(d.format, item)
    }
    files.push(file)
  }
  return { steps, files }
}

/** What the file has no place for, so that nobody looks for it there. */
function sayLost(format: Parameters<typeof lostIn>[0], item: Item): void {
  const lost = item.data.kind === 'mesh' || item.data.kind === 'points' ? lostIn(format, item.data) : []
  if (lost.length) process.stderr.write(`${format.toUpperCase()} has no place for ${lost.join(', ')}: left out. PLY keeps it.\n`)
}

/** Data in job coordinates, as files hold no pose. */
function placed(item: Item) {
  const d = item.data
  if (d.kind === 'mesh') return transformMesh(d, item.pose)
  if (d.kind !== 'points') throw new OakError('wrong-format', `“${item.name}” is a table.`)
  return placePoints(d, item.pose)
}

async function runOne(
  name: string,
  brought: Map<string, Item[]>,
  whole: Map<string, FileValue[]>,
  values: ReturnType<typeof parse>['values'],
  ctx: RunContext,
): Promise<Report> {
  const params: Record<string, unknown> = {}
  for (const s of values.set ?? []) {
    const at = s.indexOf('=')
    if (at < 1) throw new Usage(`--set takes SETTING=VALUE, not “${s}”`)
    const text = s.slice(at + 1)
    try {
      params[s.slice(0, at)] = JSON.parse(text)
    } catch {
      params[s.slice(0, at)] = text
    }
  }
  const start = performance.now()
  const r = await runOperation(name, Object.fromEntries<Item[] | FileValue[]>([...brought, ...whole]), params, ctx)
  const files: string[] = []
  for (const [port, items] of Object.entries(r.outputs))
    for (let i = 0; i < items.length && values.out; i++) {
      const item = items[i]
      if (item.data.kind === 'markers') {
        const file = join(values.out, `${port}.csv`)
        await writeFile(file, [new TextEncoder().encode(writePlacedMarkers(item.data, item.pose))], ctx)
        files.push(file)
        continue
      }
      if (item.data.kind === 'field') {
        const about = operation(name).outputs[port]?.on ?? ''
        const at = (r.outputs[about] ?? brought.get(about))?.[i]
        if (!at) continue
        const file = join(values.out, `${port}.csv`)
        await writeFile(file, writeFieldCsv(item.data, at), ctx)
        files.push(file)
        continue
      }
      const format = (values.format ?? (item.data.kind === 'mesh' ? 'stl' : 'ply')) as 'ply'
      const file = join(values.out, `${items.length > 1 ? item.name : port}.${format}`)
      await writeFile(file, writeAny(format, placed(item), item.name), ctx)
      sayLost(format, item)
      files.push(file)
    }
  return { steps: [{ operation: name, evidence: r.evidence, milliseconds: performance.now() - start }], files }
}

/** What kind each name of a recipe is, by the ports that take it: lists of markers are read as such. */
function recipePorts(path: string): Operation['inputs'] {
  const out: Operation['inputs'] = {}
  for (const s of readRecipe(path).steps)
    for (const [port, names] of Object.entries(s.inputs)) for (const n of names) out[n] ??= operation(s.operation).inputs[port]
  return out
}

/** ports: those of the operation that is run: some take the file itself, or a list of markers. */
async function bringIn(
  pairs: string[],
  unit: string | undefined,
  ctx: RunContext,
  ports: Operation['inputs'],
): Promise<{ items: Map<string, Item[]>; files: Map<string, FileValue[]> }> {
  const out = new Map<string, Item[]>()
  const files = new Map<string, FileValue[]>()
  for (const pair of pairs) {
    const at = pair.indexOf('=')
    if (at < 1) throw new Usage(`--in takes NAME=FILE, not “${pair}”`)
    const path = pair.slice(at + 1)
    const name = pair.slice(0, at)
    const kinds = (ports as Partial<Operation['inputs']>)[name]?.kinds ?? []
    const file = { kind: 'file' as const, source: fileSource(path) }
    if (kinds.includes('file')) {
      files.set(name, [file])
      continue
    }
    const r = await runOperation(kinds.includes('markers') ? 'import-markers' : 'import', { file: [file] }, unit ? { unit } : {}, ctx)
    for (const w of r.evidence.warnings) process.stderr.write(`${path}: ${w}\n`)
    out.set(name, [...(out.get(name) ?? []), ...Object.values(r.outputs).flat()])
  }
  return { items: out, files }
}

function fileSource(path: string): ByteSource {
  if (!existsSync(path) || !statSync(path).isFile()) throw new OakError('no-file', 'There is no such file.', { where: path, remedy: 'Check the path.' })
  return {
    name: basename(path),
    size: statSync(path).size,
    chunks: () => createReadStream(path, { highWaterMark: 1 << 20 }) as AsyncIterable<Uint8Array>,
  }
}

/** A file that is being written; it gets its name when it is whole. */
let unfinished = ''

async function writeFile(path: string, parts: Iterable<Uint8Array>, ctx: RunContext): Promise<void> {
  // a signal that came while the step computed is heard when the loop of events has gone round
  await new Promise((resolve) => setTimeout(resolve, 1))
  checkCancelled(ctx)
  mkdirSync(dirname(path), { recursive: true })
  unfinished = `${path}.part`
  const stream = createWriteStream(unfinished)
  for (const p of parts) {
    if (!stream.write(p)) await once(stream, 'drain')
    checkCancelled(ctx)
  }
  stream.end()
  await once(stream, 'finish')
  renameSync(unfinished, path)
  unfinished = ''
}

function dropUnfinished(): void {
  if (unfinished) rmSync(unfinished, { force: true })
}

function progressBar(): RunContext['progress'] {
  if (!process.stderr.isTTY) return () => undefined
  let last = 0
  return (done, phase) => {
    const now = Date.now()
    if (now - last < 100) return
    last = now
    const width = 30
    const full = Math.round(width * done)
    process.stderr.write(`\r[${'='.repeat(full)}${' '.repeat(width - full)}] ${String(Math.round(100 * done)).padStart(3)} % ${(phase ?? '').padEnd(24)}`)
  }
}

function clearBar(): void {
  if (process.stderr.isTTY) process.stderr.write('\r\u001b[K')
}

function print(s: { operation: string; evidence: Evidence; milliseconds: number }): void {
  process.stdout.write(`${operation(s.operation).title} (${(s.milliseconds / 1000).toFixed(1)} s)\n`)
  for (const e of s.evidence.quantities.slice(0, 12)) {
    const v = typeof e.value === 'number' ? (Number.isInteger(e.value) ? String(e.value) : e.value.toPrecision(4)) : e.value
    process.stdout.write(
      `  ${e.of ? `${e.of}: ` : ''}${wordsOf(e)}: ${v}${e.u === undefined ? '' : e.u === 'unknown' ? ' ± ?' : ` ± ${(2 * e.u).toPrecision(2)}`} ${e.unit}\n`,
    )
  }
  for (const w of s.evidence.warnings) process.stdout.write(`  note: ${w}\n`)
}

// the reader of a pipe may stop early (oak list | head)
process.stdout.on('error', () => process.exit(0))

main(process.argv.slice(2)).then(
  (code) => (process.exitCode = code),
  (e: unknown) => {
    clearBar()
    dropUnfinished()
    if (e instanceof Usage) {
      process.stderr.write(`oak: ${e.message}\n\n${HELP}`)
      process.exitCode = 2
    } else if (e instanceof OakError) {
      process.stderr.write(`oak: ${e.message}${e.where ? `\n  where: ${e.where}` : ''}${e.remedy ? `\n  what to do: ${e.remedy}` : ''}\n`)
      process.exitCode = e.code === 'cancelled' ? 130 : 1
    } else {
      process.stderr.write(`oak: ${e instanceof Error ? (e.stack ?? e.message) : String(e)}\n`)
      process.exitCode = 1
    }
  },
)
