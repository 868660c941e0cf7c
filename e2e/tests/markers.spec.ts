import { expect, test, type Page } from '@playwright/test'
import { readFileSync } from 'node:fs'
import { unpack } from '@oak-gauge/contract'
import { fitRigid } from '@oak-gauge/core/align/pairs.ts'
import { readMarkers } from '@oak-gauge/core/formats/markers.ts'
import { compareMarkers } from '@oak-gauge/core/markers/compare.ts'
import { makeMarkers } from '@oak-gauge/core/markers/markers.ts'
import { setStage } from '@oak-gauge/server/markers/stage.ts'
import { drawn, goTo, press, shownNumber, watchConsole } from './help.ts'

/**
 * Markers on the real interface: planned on a box of given size, one dragged, stuck by a hand that misses a little, mapped live with the virtual hand on its
 * path, one knocked against and named. What really stands before the stand-in is computed here once more, and the map measured against it.
 */
test.describe.configure({ mode: 'serial' })
let page: Page
let said: string[]
let job = ''
test.beforeAll(async ({ browser }) => {
  page = await browser.newPage()
  said = watchConsole(page)
})
test.afterAll(async () => {
  const scanners = ((await (await page.request.get('/api/v1/scanners')).json()) as { items: { id: string; name: string }[] }).items
  const alder = scanners.find((s) => s.name === 'Alder')
  if (alder) await page.request.patch(`/api/v1/scanners/${alder.id}`, { data: { on: false } })
  await page.close()
})

const ring = (id: string) => page.locator(`.rings g[data-marker="${id}"]`).first()
/** Middle of a marker's symbol: its label lies to the upper right of it. */
async function middle(id: string): Promise<[number, number]> {
  const at = /translate\(([\d.-]+) ([\d.-]+)\)/.exec((await ring(id).getAttribute('transform')) ?? '')
  const box = await page.getByLabel('3D view').boundingBox()
  return [Number(at?.[1]) + (box?.x ?? 0), Number(at?.[2]) + (box?.y ?? 0)]
}

test('a plan on a box of given size sees enough from everywhere, and prints', async () => {
  test.setTimeout(240_000)
  await page.goto('/')
  await expect(page.locator('[data-scanner="Alder"]')).toContainText('on the ball bar', { timeout: 180_000 })
  const made = await page.request.post('/api/v1/jobs', { data: { title: 'Sluice cover', part: 'typed box' } })
  job = ((await made.json()) as { job: { id: string } }).job.id
  await page.goto(`/jobs/${job}/Mark`)
  await expect(page.getByRole('heading', { name: 'Where should markers go?' })).toBeVisible()
  for (const [label, v] of [
    ['Length', '180'],
    ['Width', '120'],
    ['Height', '4 cm'],
  ])
    await page.getByLabel(label, { exact: true }).fill(v)
  await page.getByLabel('Height', { exact: true }).press('Enter')
  await press(page, 'Propose places')
  await expect(page.locator('[data-evidence="plan"]')).toBeVisible({ timeout: 60_000 })
  expect(await shownNumber(page, 'enough')).toBe(100)
  expect(await shownNumber(page, 'comfortable')).toBeGreaterThan(80)
  await expect(page.getByText('may not be', { exact: false }).first()).toBeVisible()
  const href = await page.getByRole('link', { name: 'Sheet to print' }).getAttribute('href')
  const pdf = await page.request.get(href ?? '')
  expect((await pdf.body()).subarray(0, 5).toString()).toBe('%PDF-')
})

test('a marker is dragged, and the verdict follows at once', async () => {
  await drawn(page)
  await press(page, 'Change by hand')
  // the one nearest to us, on the table
  const ids = await page.locator('.rings g[data-marker]:not(.behind)').evaluateAll((list) => list.map((g) => g.getAttribute('data-marker') ?? ''))
  let id = ids[0]
  let low = 0
  for (const i of ids) {
    const [, y] = await middle(i)
    if (y > low) [id, low] = [i, y]
  }
  const near = page.locator(`[data-nearest="${id}"]`)
  const before = await near.innerText()
  const seen = page.locator('.sphere svg')
  const said1 = await seen.getAttribute('aria-label')
  const [x, y] = await middle(id)
  await page.mouse.move(x, y)
  await page.mouse.down()
  for (let k = 1; k <= 8; k++) {
    await page.mouse.move(x + 4 * k, y - 7 * k)
  }
  await page.mouse.up()
  await expect(near).not.toHaveText(before)
  await expect(page.locator('.card')).toContainText(new RegExp(`${id} sits on the (part|table)`))
  const moved = await middle(id)
  expect(Math.hypot(moved[0] - x - 32, moved[1] - y + 56)).toBeLessThan(14)
  // two more go, and the sphere says what that costs
  for (const other of ids.filter((i) => i !== id).slice(0, 6)) {
    await page.getByRole('button', { name: `Marker ${other}`, exact: true }).click()
    await press(page, `Remove ${other}`)
  }
  await expect(seen).not.toHaveAttribute('aria-label', said1 ?? '')
  // the verdict comes from another thread, a moment after the change
  const enough = page.locator('.card [data-quantity="enough"]')
  await expect(enough).not.toHaveText('100 %')
  await press(page, 'Leave it as it was')
  await expect(enough).toHaveText('100 %')
})

test('a marker is added by a click and kept; stepping back takes it away again', async () => {
  await press(page, 'Change by hand')
  const count = await page.locator('.rings g[data-marker]').count()
  await press(page, 'Add')
  const view = await page.getByLabel('3D view').boundingBox()
  await page.mouse.click((view?.x ?? 0) + (view?.width ?? 0) / 2, (view?.y ?? 0) + (view?.height ?? 0) / 2)
  await expect(page.locator('.rings g[data-marker]')).toHaveCount(count + 1)
  await expect(page.locator('.card')).toContainText('sits on the part')
  await press(page, 'Keep these changes')
  await expect(page.getByRole('heading', { name: `${count + 1} markers` })).toBeVisible()
  await page.getByRole('button', { name: /step back/ }).click()
  await expect(page.getByRole('heading', { name: `${count} markers` })).toBeVisible()
})

test('they are mapped live, and every one takes the name it was planned under', async () => {
  test.setTimeout(180_000)
  await press(page, 'Stuck: map them')
  const on = page.locator('.card').getByRole('button', { name: 'Switch it on' })
  await on.click()
  await expect(page.locator('.card').getByRole('button', { name: 'Record the markers' })).toBeEnabled({ timeout: 60_000 })
  await press(page, 'Record the markers')
  await expect(page.locator('[data-mapping="recording"]')).toBeVisible()
  await press(page, 'Lead it once round')
  await expect(page.getByRole('heading', { name: 'All markers are known well enough' })).toBeVisible({ timeout: 60_000 })
  await expect(page.getByRole('button', { name: 'Lead it once round' })).toBeEnabled({ timeout: 60_000 })
  const plan = (await (await page.request.get(`/api/v1/jobs/${job}`)).json()) as { tray: { role: string; count: number }[] }
  const planned = plan.tray.find((i) => i.role === 'marker-plan')?.count
  await expect(page.locator('[data-mapped]:not([data-mapped=""])')).toHaveCount(planned ?? 0)
  await expect(page.locator('[data-quantity="enough"]')).toHaveText(`${planned} of ${planned}`)
})

test('a marker knocked against by 0.3 mm is named, and no other', async () => {
  test.setTimeout(180_000)
  const id = await page.locator('[data-mapped][data-state="enough"]').first().getAttribute('data-mapped')
  await page.getByLabel('Marker to knock against').click()
  await page.locator('.ant-select-item-option', { hasText: new RegExp(`^${id}$`) }).click()
  await press(page, 'Knock against')
  await press(page, 'Lead it once round')
  const note = page.locator('[data-moved]')
  await expect(note).toHaveCount(1, { timeout: 60_000 })
  await expect(note).toHaveAttribute('data-moved', id ?? '')
  // as soon as it is said it is right
  const words = await note.innerText()
  expect(Math.abs(Number(/moved by ([\d.]+)/.exec(words)?.[1]) - 0.3)).toBeLessThan(0.03)
  await expect(page.locator(`[data-mapped="${id}"] .moved`)).toHaveCount(1)
  await expect(page.getByRole('button', { name: 'Lead it once round' })).toBeEnabled({ timeout: 60_000 })
  await press(page, 'That is all: make the map')
  await expect(page.getByRole('heading', { name: /markers of Setup 1 are known/ })).toBeVisible({ timeout: 60_000 })
  await expect(page.locator('.card')).toContainText(`Marker ${id} moved by 0.`)
})

test('the map is true to some micrometres, and its stated uncertainty honest', async () => {
  const state = (await (await page.request.get(`/api/v1/jobs/${job}`)).json()) as {
    tray: { id: string; role: string }[]
    steps: { operation: string; params: { up?: '+z' } }[]
  }
  const display = async (role: string) => {
    const item = state.tray.find((i) => i.role === role)
    const body = await (await page.request.get(`/api/v1/items/${item?.id}/display`)).body()
    // a small Buffer is a piece of a larger one
    return unpack(Uint8Array.from(body).buffer)
  }
  const plan = await display('marker-plan')
  const { boxSolid } = await import('@oak-gauge/core/shape/solids.ts')
  const stage = await setStage({
    plan: { positions: plan['positions'], normals: plan['normals'], diameters: plan['diameters'], perch: plan['perch'] },
    up: '+z',
    part: boxSolid(180, 120, 40),
    place: 0,
    seed: 0,
  })
  const [download] = await Promise.all([page.waitForEvent('download'), page.locator('.card').getByRole('link', { name: 'As a list' }).click()])
  const map = readMarkers(readFileSync((await download.path()) ?? '', 'utf8'), 'map.csv').markers
  const truth = makeMarkers(stage)
  const d = compareMarkers(truth, map)
  // the one that was knocked against lies elsewhere
  expect(d.same.length).toBe(map.ids.length - 1)
  expect(d.moved.map((m) => Math.abs(m.distance - 0.3) < 0.03)).toEqual([true])
  const fit = fitRigid(
    d.same.flatMap((p) => [...map.positions.subarray(3 * p.b, 3 * p.b + 3)]),
    d.same.flatMap((p) => [...truth.positions.subarray(3 * p.a, 3 * p.a + 3)]),
  )
  expect(fit.rms).toBeLessThan(0.02)
  const u = await page.locator('[data-mapped-u]').allInnerTexts()
  expect(u.length).toBe(map.ids.length)
  expect(Math.max(...u.map(Number))).toBeLessThan(0.02)
})

test('the placement is compared with the plan, and another setup asks whether markers travelled', async () => {
  await press(page, 'Compare with the plan')
  await press(page, 'Compare')
  await expect(page.locator('[data-beside]').first()).toBeVisible({ timeout: 30_000 })
  const beside = (await page.locator('[data-beside]').allInnerTexts()).map(Number)
  expect(Math.max(...beside)).toBeGreaterThan(0.5)
  expect(Math.max(...beside)).toBeLessThan(8)
  await page.locator('.card').getByText('Map', { exact: true }).click()
  await page.locator('.card').getByRole('button', { name: 'New' }).click()
  await page.locator('#m-setup').click()
  await page.locator('.ant-select-item-option', { hasText: 'Setup 2' }).click()
  await expect(page.getByRole('heading', { name: /Did the markers travel with it/ })).toBeVisible()
  await expect(page.locator('.card').getByRole('button', { name: 'Record the markers' })).toBeDisabled()
  await page.getByText('Yes, they stick on it').click()
  await expect(page.locator('.card').getByRole('button', { name: 'Go on from that map' })).toBeEnabled()
})

test('a list of one’s own comes in; one in inches asks for its unit; a doubled id is refused', async () => {
  const file = page.locator('input[aria-label="List of markers"]')
  await file.setInputFiles({ name: 'lodge.csv', mimeType: 'text/csv', buffer: Buffer.from('id,x,y,z\n1,0,0,0\n2,2.36,0,0\n3,0,2.1,0\n4,2.5,2.2,0.1\n') })
  await expect(page.locator('.card')).toContainText('as inches that would be')
  await press(page, 'Read it in in')
  await expect(page.getByRole('heading', { name: '4 markers of Setup 2 are known' })).toBeVisible()
  await expect(page.locator('.card')).toContainText('states no uncertainties')
  await file.setInputFiles({ name: 'twice.csv', mimeType: 'text/csv', buffer: Buffer.from('A,0,0,0\nB,60,0,0\nA,0,50,0\n') })
  await expect(page.locator('.card')).toContainText('The id “A” stands in lines 1 and 3')
  await goTo(page, 'Capture')
  expect(said).toEqual([])
})
