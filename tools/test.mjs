// Runs every kind of test and counts. A kind whose report is missing, or that does not end, counts as failed: silence is no success.
import { spawn } from 'node:child_process'
import { mkdirSync, readFileSync, rmSync } from 'node:fs'

const only = process.argv.slice(2)
const reports = '.build/reports'
rmSync(reports, { recursive: true, force: true })
mkdirSync(reports, { recursive: true })
/** ms: the whole takes about 30 minutes, the longest kind 10 */
const LONGEST = 35 * 60_000
/** tests of programs that talk to one another */
const PROGRAMS = '/(server|scanners|cli)/test/'
/** a recording in real time: it keeps both cores busy by itself */
const ALONE = '/server/test/capture'
let passed = 0
let failed = 0

async function run(name, command, args, env, count) {
  if (only.length && !only.includes(name)) return
  console.log(`\n── ${name}`)
  const began = Date.now()
  const status = await new Promise((resolve) => {
    const child = spawn(command, args, { stdio: 'inherit', env: { ...process.env, ...env }, timeout: LONGEST, killSignal: 'SIGKILL' })
    child.on('error', (e) => resolve(console.log(`${name}: ${e.message}`)))
    child.on('exit', resolve)
  })
  let result
  try {
    result = count ? count() : { passed: status === 0 ? 1 : 0, failed: status === 0 ? 0 : 1 }
  } catch (e) {
    console.log(`no report: ${e.message}`)
    result = { passed: 0, failed: 1 }
  }
  if (status !== 0 && result.failed === 0) result.failed = 1
  passed += result.passed
  failed += result.failed
  console.log(`${name}: ${result.passed} passed, ${result.failed} failed, ${Math.round((Date.now() - began) / 1000)} s`)
}

const read = (file) => JSON.parse(readFileSync(`${reports}/${file}`, 'utf8'))
// each of them keeps one core busy, and the types are known long before the rules: unit tests begin meanwhile
const looked = [run('types', 'npx', ['tsc', '-b']), run('lint', 'npm', ['run', '--silent', 'lint'])]
await looked[0]
// not through npx: whoever is ended for its time must be the one that runs
const jest = (name, ...args) =>
  run(
    name,
    process.execPath,
    ['node_modules/jest/bin/jest.js', '--json', `--outputFile=${reports}/${name}.json`, ...args],
    { NODE_OPTIONS: '--experimental-vm-modules --no-warnings' },
    () => {
      const j = read(`${name}.json`)
      return { passed: j.numPassedTests, failed: j.numFailedTests + j.numRuntimeErrorTestSuites }
    },
  )
await jest('unit', '--maxWorkers=2', '--testPathIgnorePatterns=/node_modules/', `--testPathIgnorePatterns=${PROGRAMS}`)
await looked[1]
// two at a time: none of them may lean on having the machine for itself (tried with a third load beside them)
await jest('server', '--maxWorkers=2', `--testPathPatterns=${PROGRAMS}`, '--testPathIgnorePatterns=/node_modules/', `--testPathIgnorePatterns=${ALONE}`)
await jest('recording', '--maxWorkers=1', `--testPathPatterns=${ALONE}`)
await run(
  'browser',
  process.execPath,
  ['node_modules/@playwright/test/cli.js', 'test', '-c', 'e2e'],
  { PLAYWRIGHT_JSON_OUTPUT_FILE: `${process.cwd()}/${reports}/browser.json` },
  () => {
    const { stats } = read('browser.json')
    return { passed: stats.expected, failed: stats.unexpected + stats.flaky + (stats.expected === 0 ? 1 : 0) }
  },
)
console.log(`\n${passed} passed, ${failed} failed`)
process.exit(failed ? 1 : 0)
