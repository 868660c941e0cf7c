// Compiles core/simd (AssemblyScript) into core/src/simd/code.ts. `--check` says whether that file is up to date, and leaves it.
import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

const root = new URL('..', import.meta.url).pathname
const target = join(root, 'core/src/simd/code.ts')
const out = mkdtempSync(join(tmpdir(), 'oak-simd-'))
try {
  const wasm = join(out, 'k.wasm')
  const args = ['core/simd/index.ts', '-O3', '--runtime', 'stub', '--enable', 'simd', '--noAssert', '--disableWarning', '--outFile', wasm]
  execFileSync(join(root, 'node_modules/.bin/asc'), args, { cwd: root, stdio: 'inherit' })
  const text = readFileSync(wasm)
    .toString('base64')
    .match(/.{1,140}/g)
    .map((l) => `  '${l}'`)
  const code = `/** The vector kernels of core/simd, compiled by tools/simd.mjs. Not written by hand. */\nexport const CODE =\n${text.join(' +\n')}\n`
  if (process.argv.includes('--check')) {
    if (readFileSync(target, 'utf8') !== code) {
      console.error('core/src/simd/code.ts is not what core/simd compiles to: run npm run simd')
      process.exit(1)
    }
  } else writeFileSync(target, code)
} finally {
  rmSync(out, { recursive: true })
}
