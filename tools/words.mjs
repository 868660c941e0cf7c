import { readFileSync, writeFileSync } from 'node:fs'
import { execFileSync } from 'node:child_process'
import ts from 'typescript'

/**
 * The catalogue of what the page says, web/src/words/en.ts, out of the sentences in the code: node tools/words.mjs writes it, a unit test compares it. Words that
 * were changed in it stay changed.
 */
const CATALOGUE = 'web/src/words/en.ts'
const root = new URL('..', import.meta.url)
const read = (file) => readFileSync(new URL(file, root), 'utf8')

/** Sentences of the code, those that stand in singular and plural marked; and what is no literal sentence, by place. */
export function sentences(files = sources()) {
  const found = new Map()
  const wrong = []
  for (const file of files) {
    const source = ts.createSourceFile(file, read(file), ts.ScriptTarget.Latest, true, file.endsWith('x') ? ts.ScriptKind.TSX : ts.ScriptKind.TS)
    const take = (node, counted) => {
      if (node && ts.isStringLiteralLike(node)) found.set(node.text, counted || found.get(node.text) === true)
      else wrong.push(`${file}:${source.getLineAndCharacterOfPosition((node ?? source).getStart()).line + 1}`)
    }
    const visit = (node) => {
      if (ts.isCallExpression(node) && node.expression.getText() === 't') {
        const values = node.arguments[1]
        take(node.arguments[0], !!values && ts.isObjectLiteralExpression(values) && values.properties.some((p) => p.name?.getText() === 'count'))
      }
      if (ts.isJsxSelfClosingElement(node) && node.tagName.getText() === 'Words') {
        const of = node.attributes.properties.find((p) => p.name?.getText() === 'of')?.initializer
        take(of && ts.isJsxExpression(of) ? of.expression : of, false)
      }
      ts.forEachChild(node, visit)
    }
    visit(source)
  }
  return { found, wrong }
}

const sources = () =>
  execFileSync('git', ['ls-files', '-co', '--exclude-standard', 'web/src'], { cwd: root, encoding: 'utf8' })
    .split('\n')
    .filter((f) => /\.tsx?$/.test(f) && !f.startsWith('web/src/words/'))

/** Keys of the catalogue: a counted sentence has one for one and one for any other number. */
export const keysOf = (found) => [...found].flatMap(([text, counted]) => (counted ? [`${text}_one`, `${text}_other`] : [text])).sort((a, b) => (a < b ? -1 : 1))

if (process.argv[1] && import.meta.url.endsWith(process.argv[1].split('/').at(-1))) {
  const { found, wrong } = sentences()
  if (wrong.length) throw new Error(`not a literal sentence: ${wrong.join(', ')}`)
  let known = {}
  try {
    known = Function(`return ${/= (\{[^]*\})/.exec(read(CATALOGUE))[1]}`)()
  } catch {
    // the first time there is none
  }
  const lines = keysOf(found).map((k) => `  ${JSON.stringify(k)}: ${JSON.stringify(known[k] ?? k.replace(/_(one|other)$/, ''))},`)
  writeFileSync(
    new URL(CATALOGUE, root),
    `/** What the page says, under the sentence that stands in the code: \`node tools/words.mjs\` keeps the list in step, the words at the right may be changed. */\nexport const EN: Record<string, string> = {\n${lines.join('\n')}\n}\n`,
  )
  execFileSync('npx', ['prettier', '--write', CATALOGUE], { cwd: root, stdio: ['ignore', 'ignore', 'inherit'] })
  console.log(`${found.size} sentences`)
}
