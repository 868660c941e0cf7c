import { expect, test, type Page } from '@playwright/test'
import { readFileSync } from 'node:fs'
import { bendAt, DEFECTS, wearAt } from '@oak-gauge/demo/parts/defects.ts'
import { drawn, ended, goTo, press, shownNumber, stlVolume, stripNumber, watchConsole } from './help.ts'

/**
 * The whole way of the demo bracket, from recorded passes to the delivered mesh, on the real interface. What is hidden in the part
 * (demo/src/parts/defects.ts) must be read off the screen.
 */
test.describe.configure({ mode: 'serial' })
let page: Page
let said: string[]
test.beforeAll(async ({ browser }) => {
  page = await browser.newPage()
  said = watchConsole(page)
})
test.afterAll(() => page.close())

test('the demo is on the bench and opens where it stands', async () => {
  await page.goto('/')
  // the pawl has as many
  const card = page.locator('.jobcard', { hasText: 'Bearing bracket' })
  await expect(card).toContainText('Clean: 8 recorded passes wait', { timeout: 110_000 })
  await page.getByRole('link', { name: 'Bearing bracket' }).click()
  await expect(page.getByRole('heading', { name: 'What belongs to the table?' })).toBeVisible()
  await drawn(page)
})

test('clean: the table goes by three places, then by one patch; strays and islands', async () => {
  test.setTimeout(180_000)
  for (const [x, y] of [
    [260, 500],
    [560, 590],
    [730, 380],
  ]) {
    await page.mouse.click(x, y)
  }
  const would = await shownNumber(page, 'would go')
  expect(would).toBeGreaterThan(30)
  await press(page, /^Take away \d/)
  await ended(page)
  // what was said beforehand from the shown points is what went
  expect(Math.abs((await shownNumber(page, 'share-gone')) - would)).toBeLessThan(1.5)
  await page.locator('#k-setup').click()
  await page.getByTitle('Setup 2, on its side').click()
  await drawn(page)
  await page.locator('.card').getByText('One patch').click()
  await page.mouse.click(560, 620)
  await press(page, /^Take away \d/)
  await ended(page)
  expect(await shownNumber(page, 'flatness-of-the-patch-rms')).toBeLessThan(0.04)
  await page.locator('.card').getByText('Strays', { exact: true }).click()
  await press(page, 'Look first')
  await ended(page)
  const strays = await shownNumber(page, 'points-gone')
  expect(strays).toBeGreaterThan(500)
  await press(page, 'Take away')
  await ended(page)
  expect(await shownNumber(page, 'points-gone')).toBe(strays)
  await page.locator('.card').getByText('Islands', { exact: true }).click()
  await press(page, 'Take away')
  await ended(page)
})

test('align: the setups find each other by shape, the passes agree to some micrometres', async () => {
  await press(page, 'Go on to Align')
  await press(page, 'Align by shape')
  await ended(page)
  expect(await shownNumber(page, 'overlap')).toBeGreaterThan(15)
  await press(page, 'On to all passes')
  await press(page, /^Adjust \d/)
  await ended(page)
  expect(await stripNumber(page, 'Alignment, worst pass')).toBeLessThan(0.02)
  await expect(page.locator('[data-pass]')).toHaveCount(8)
})

test('merge: the cell is guarded by the alignment, the mesh is the part', async () => {
  await press(page, 'Go on to Merge')
  const cell = page.locator('.card').getByLabel('Cell size')
  await cell.fill('.001')
  await cell.press('Enter')
  await expect(page.getByText('their misfit would look like shape')).toBeVisible()
  await expect(page.locator('.card').getByRole('button', { name: /^Merge \d/ })).toBeDisabled()
  await cell.fill('0,5')
  await cell.press('Enter')
  await press(page, /^Merge \d/)
  await ended(page)
  expect(await shownNumber(page, 'surface-noise')).toBeLessThan(0.05)
  expect(await shownNumber(page, 'pieces')).toBeLessThan(4)
})

test('datum and inspect: worn face, bent foot and oversize bore are read off the map', async () => {
  test.setTimeout(180_000)
  await press(page, 'Go on to Datum')
  await press(page, 'Fit on all faces')
  await ended(page)
  await expect(page.locator('.card [data-quantity="free-directions"]')).toHaveText('none')
  await press(page, 'Go on to Inspect')
  await press(page, 'Compare')
  await ended(page)
  await drawn(page)
  await page.keyboard.press('f')
  await drawn(page)
  expect(await shownNumber(page, 'largest-extra')).toBeGreaterThan(0.6 * DEFECTS.bentFoot.rise)
  const spots: [string, number, number, (x: number, y: number, z: number) => number][] = [
    ['foot', 770, 470, (x) => bendAt(x)],
    ['worn face', 470, 488, (_x, _y, z) => -wearAt(z)],
    ['bore', 430, 440, () => -(DEFECTS.oversizeBore.diameter - 26) / 2],
  ]
  // the passes of the demo came in without a scanner: what it errs by is stated, the rest is in the ledger
  await press(page, 'Place a flag')
  await expect(page.locator('[data-not-known]')).toBeVisible()
  const U = page.getByLabel('U of the scanner')
  await U.fill('0.02')
  await U.press('Enter')
  await expect(page.locator('[data-not-known]')).toHaveCount(0)
  await expect(page.getByLabel(/^U of /)).toHaveCount(1)
  await press(page, 'No flag')
  for (let i = 0; i < spots.length; i++) {
    const [name, px, py, truth] = spots[i]
    await press(page, 'Place a flag')
    await page.getByLabel('Name of the spot').fill(name)
    await page.mouse.click(px, py)
    await ended(page)
    const flag = page.locator(`[data-flag="${i + 1}"]`)
    await expect(flag).toContainText(name)
    const place = ((await flag.getAttribute('title')) ?? '').match(/-?\d+\.\d+/g)?.map(Number) as number[]
    const [value, uncertainty] = (await flag.innerText())
      .replace('−', '-')
      .match(/[+-]?\d+\.\d+/g)
      ?.map(Number) as number[]
    expect(Math.abs(value - truth(place[0], place[1], place[2])), `${name} at ${place.join(' ')}: ${value} ± ${uncertainty}`).toBeLessThan(0.05)
    await expect(flag).toContainText(truth(place[0], place[1], place[2]) > 0 ? 'extra' : 'missing')
    // the parts on the screen make the whole on the flag
    const budget = page.locator(`[data-budget="${i + 1}"]`)
    const parts = (await budget.locator('dd').allInnerTexts()).map((t) => Number(t.replace(/[^\d.]/g, '')))
    expect(parts).toHaveLength(5)
    expect(Math.abs(Math.hypot(...parts) / uncertainty - 1)).toBeLessThan(0.05)
    // the noise of the surface is told without the edge beside the spot: what was stated for the scanner is the largest part. In the bore's patch some two
    // values are independent, and from so few the noise itself comes out anywhere between 0.007 and 0.035
    if (name !== 'bore') expect(await budget.locator('dd').first().getAttribute('data-part')).toBe('scanner')
    expect(uncertainty).toBeLessThan(name === 'bore' ? 0.06 : 0.03)
  }
})

test('deliver: the pre-flight line, then STL and the table as files', async () => {
  await press(page, 'Go on to Deliver')
  await press(page, 'Look it over before it goes')
  await ended(page)
  await expect(page.locator('[data-preflight]')).toContainText('unit mm')
  expect(await shownNumber(page, 'edges-of-more-than-two')).toBe(0)
  const triangles = Number((await page.locator('[data-preflight]').innerText()).replace(/\u202f/g, '').match(/(\d+) triangles/)?.[1])
  const [download] = await Promise.all([page.waitForEvent('download'), page.locator('.card').getByRole('link', { name: 'Save STL' }).click()])
  const stl = readFileSync(await download.path())
  expect(stlVolume(stl).triangles).toBe(triangles)
  expect(stl.length).toBe(84 + 50 * triangles)
  const [table] = await Promise.all([
    page.waitForEvent('download'),
    page
      .locator('.card')
      .getByRole('link', { name: /Deviation table/ })
      .click(),
  ])
  expect(readFileSync(await table.path(), 'utf8').split('\n').length).toBeGreaterThan(triangles / 3)
})

test('ledger: back, forward, a changed setting runs on; a reload finds everything as it was', async () => {
  test.setTimeout(240_000)
  const steps = page.getByText(/^Ledger, \d+ steps$/)
  const before = await steps.innerText()
  await page.keyboard.press('z')
  await expect(steps).not.toHaveText(before)
  await page.keyboard.press('Shift+Z')
  await expect(steps).toHaveText(before)
  await steps.click()
  const deviation = page.locator('.ledger [data-step="deviation"]').first()
  await deviation.getByRole('button', { name: 'Change and run on' }).click()
  await page.locator('#set-limit').fill('0.2')
  await page.getByRole('button', { name: /^Run, and the/ }).click()
  await expect(page.locator('.ledger [data-step="deviation"]')).toHaveCount(2, { timeout: 60_000 })
  await page.keyboard.press('Escape')
  await ended(page)
  await page.reload()
  await drawn(page)
  await expect(steps).toHaveText(before)
  await goTo(page, 'Inspect')
  expect(await page.locator('.card').getByLabel('Fine inside').inputValue()).toBe('0.20')
})

test('nothing was said on the console', () => {
  expect(said).toEqual([])
})
