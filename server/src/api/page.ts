import type { Described, OpenApi, Schema } from './openapi.ts'

const escaped = (text: string) => text.replace(/[&<>"]/g, (c) => `&#${c.charCodeAt(0)};`)
const nameOf = (ref: string) => ref.slice(ref.lastIndexOf('/') + 1)

/** The description as a page to read: no script, nothing from elsewhere. */
export function docsPage(api: OpenApi): string {
  const all = Object.entries(api.paths).flatMap(([path, methods]) => Object.entries(methods).map(([method, d]) => ({ path, method, d })))
  const tags = [...new Set(all.map(({ d }) => d.tags[0]))]
  const anchor = (tag: string) => tag.toLowerCase().replaceAll(' ', '-')
  return `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Oak Gauge: the interface</title><style>${STYLE}</style></head>
<body><nav><b>Oak Gauge</b><span>the interface, ${api.info.version}</span>
${tags.map((t) => `<a href="#${anchor(t)}">${escaped(t)}</a>`).join('\n')}
<a href="#shapes">Shapes</a><a href="${api.servers[0].url}/openapi.json">openapi.json</a></nav>
<main><h1>The interface</h1><p>${escaped(api.info.description)}</p>
<p>Addresses begin with <code>${api.servers[0].url}</code>. A request that is refused is answered as <code>application/problem+json</code> (RFC 9457): <code>code</code> for programs, <code>detail</code>, <code>where</code> and <code>remedy</code> for people.</p>
${tags
  .map(
    (t) => `<h2 id="${anchor(t)}">${escaped(t)}</h2>
${all
  .filter(({ d }) => d.tags[0] === t)
  .map(({ path, method, d }) => endpoint(path, method, d))
  .join('\n')}`,
  )
  .join('\n')}
<h2 id="shapes">Shapes</h2>
${Object.entries(api.components.schemas)
  .sort(([a], [b]) => a.localeCompare(b))
  .map(([name, s]) => `<section id="shape-${name}"><h3><code>${name}</code></h3>${fields(s) || `<p>${words(s)}</p>`}</section>`)
  .join('\n')}
</main></body></html>`
}

function endpoint(path: string, method: string, d: Described): string {
  const query = d.parameters.filter((p) => p.in === 'query')
  const [media, body] = Object.entries(d.requestBody?.content ?? {})[0] ?? []
  const answers = Object.entries(d.responses).filter(([status]) => status !== 'default')
  return `<section id="${d.operationId}"><h3><span class="method">${method.toUpperCase()}</span> <code>${escaped(path).replace(/\{(\w+)\}/g, '<i>$1</i>')}</code></h3>
<p><b>${escaped(d.summary)}.</b> ${escaped(d.description ?? '')}</p>
${query.length ? table(query.map((p) => [p.name, p.schema, p.required, p.description ?? ''])) : ''}
${body ? `<p class="label">Asked: ${media === 'application/json' ? words(body.schema) : `<code>${escaped(media)}</code>`}</p>${fields(body.schema)}` : ''}
${answers
  .map(([status, a]) => {
    const [type, content] = Object.entries(a.content ?? {})[0] ?? []
    const what = content ? (type === 'application/json' ? words(content.schema) : `<code>${escaped(type)}</code>`) : escaped(a.description)
    return `<p class="label">Answered ${status}: ${what}</p>${content && !content.schema.$ref ? fields(content.schema) : ''}`
  })
  .join('\n')}
</section>`
}

const table = (rows: [string, Schema, boolean, string][]) =>
  `<table>${rows.map(([name, s, needed, about]) => `<tr><td><code>${escaped(name)}</code>${needed ? '' : '<span class="soft"> optional</span>'}</td><td>${words(s)}</td><td>${escaped(about)}</td></tr>`).join('')}</table>`

/** Fields of an object, a row each. */
function fields(s: Schema): string {
  if (!s.properties) return ''
  return table(Object.entries(s.properties).map(([name, f]) => [name, f, s.required?.includes(name) ?? false, f.description ?? '']))
}

/** A shape in a few words. */
function words(s: Schema): string {
  if (s.$ref) return `<a href="#shape-${nameOf(s.$ref)}">${nameOf(s.$ref)}</a>`
  const several = (s['anyOf'] ?? s['oneOf']) as Schema[] | undefined
  if (several) return several.map(words).join(' or ')
  if (Array.isArray(s['enum']))
    return (s['enum'] as string[]).length > 16 ? 'one of many words' : (s['enum'] as unknown[]).map((v) => `<code>${escaped(String(v))}</code>`).join(' ')
  if (s['const'] !== undefined) return `<code>${escaped(JSON.stringify(s['const']))}</code>`
  if (s.type === 'array') {
    const items = (s['prefixItems'] as Schema[] | undefined)?.[0] ?? (s['items'] as Schema | undefined)
    return `list of ${items ? words(items) : 'anything'}`
  }
  if (s.type === 'object') return s.properties ? `{ ${Object.keys(s.properties).join(', ')} }` : 'by name'
  const least = s['minimum'] ?? s['exclusiveMinimum']
  const bounds = typeof least === 'number' && Math.abs(least) < 1e9 ? ` from ${least}` : ''
  const default_ = s['default'] === undefined ? '' : `, default ${escaped(JSON.stringify(s['default']))}`
  const plain = s['format'] === 'uuid' ? 'id' : s['format'] === 'date-time' ? 'time' : s.type === 'null' ? 'null' : (s.type ?? 'anything')
  return `${plain}${bounds}${default_}`
}

const STYLE = `
body{margin:0;display:grid;grid-template-columns:190px 1fr;font:15px/1.5 Commissioner,system-ui,sans-serif;color:#2b2520;background:#faf6ee}
nav{position:sticky;top:0;height:100vh;box-sizing:border-box;padding:24px 20px;background:#f0e8d8;display:flex;flex-direction:column;gap:8px}
nav span{color:#6b5d4f;font-size:13px;margin-bottom:12px}
a{color:#7a4e22}
main{padding:24px 40px;max-width:920px;min-width:0}
h1,h2{font-weight:600}h2{margin-top:40px;padding-top:8px}
h3{margin:0;font-size:16px}h3 i{color:#7a4e22}
section{background:#fffdf8;border:1px solid #e2d6c0;border-radius:6px;padding:14px 18px;margin:12px 0}
section p{margin:6px 0}
.method{display:inline-block;min-width:58px;font-size:12px;letter-spacing:.04em;color:#6b5d4f}
.label{color:#6b5d4f;font-size:13.5px}.soft{color:#6b5d4f;font-size:12.5px}
code{font-family:"Spline Sans Mono",ui-monospace,monospace;font-size:13px}
table{border-collapse:collapse;width:100%;font-size:13.5px}td{border-top:1px solid #ece2d0;padding:4px 10px 4px 0;vertical-align:top}td:first-child{width:30%}td:nth-child(2){width:34%;overflow-wrap:anywhere}`
