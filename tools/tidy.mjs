// What must not be in the repository: things that were downloaded, built or dumped. Run by `npm run lint`.
import { execFileSync } from 'node:child_process'
import { existsSync, statSync } from 'node:fs'

const LARGEST = 1_000_000
const BUILT = /\.(whl|deb|rpm|tgz|tar|gz|zip|7z|so|dll|exe|pyc|class|o|a|log|tmp|dump|sqlite)$/i
const EXPECTED = /(^|\/)fixtures\/|^docs\/screenshots\/|^package-lock\.json$/

/** Lines that say what is wrong with the tracked files, none when all is well. */
export function untidy(files, sizeOf) {
  const out = []
  for (const f of files) {
    if (EXPECTED.test(f)) continue
    if (BUILT.test(f)) out.push(`${f}: downloaded or built, does not belong here`)
    else if (sizeOf(f) > LARGEST) out.push(`${f}: ${(sizeOf(f) / 1e6).toFixed(1)} MB, too large for a source file`)
  }
  return out
}

if (process.argv[1] === new URL(import.meta.url).pathname) {
  let files = []
  try {
    files = execFileSync('git', ['ls-files', '-z'], { encoding: 'utf8' }).split('\0').filter(Boolean)
  } catch {
    console.log('no repository here: nothing to check')
  }
  const wrong = untidy(files, (f) => (existsSync(f) ? statSync(f).size : 0))
  for (const w of wrong) console.log(w)
  process.exit(wrong.length ? 1 : 0)
}
