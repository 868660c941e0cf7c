import { fileURLToPath } from 'node:url'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { findPostgres, SetupError, startCluster } from '../postgres.ts'
import { backup, restore } from './backup.ts'

/** `./oak backup FILE`, `./oak restore FILE`: of the database of this checkout, or that of DATABASE_URL, whether the program runs or not. */
const root = fileURLToPath(new URL('..', import.meta.url))
const [what, ...rest] = process.argv.slice(2)
const replace = rest.includes('--replace')
const [file, ...more] = rest.filter((a) => a !== '--replace')

async function main(): Promise<number> {
  if ((what !== 'backup' && what !== 'restore') || !file || more.length || (replace && what === 'backup')) {
    process.stderr.write('oak backup FILE\noak restore FILE [--replace]\n')
    return 2
  }
  const cluster = process.env['DATABASE_URL'] ? undefined : await startCluster({ root })
  const url = process.env['DATABASE_URL'] ?? cluster?.url ?? ''
  const bin = cluster?.bin ?? findPostgres()
  try {
    if (what === 'backup') process.stdout.write(`${file}: ${((await backup(url, bin, file)) / 1e6).toFixed(1)} MB. Everything there is, as of now.\n`)
    else {
      await restore(url, bin, file, replace)
      process.stdout.write(`Restored from ${file}.\n`)
    }
    return 0
  } finally {
    // one that runs for somebody else goes on
    if (cluster?.began) cluster.stop()
  }
}

main().then(
  (code) => process.exit(code),
  (e: unknown) => {
    const words =
      e instanceof OakError ? [e.message, e.where, e.remedy].filter(Boolean).join('\n  ') : e instanceof SetupError ? e.message : String((e as Error).stack)
    process.stderr.write(`${words}\n`)
    process.exit(1)
  },
)
