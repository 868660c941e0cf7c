import { expect, test, type Page } from '@playwright/test'
import { readFileSync } from 'node:fs'
import { drawn, ended, goTo, press, shownNumber, watchConsole } from './help.ts'

/** A mesh and a CAD nominal of a technician's own: no passes, no demo. The plate and its true figures: core/test/fixtures/cad. */
const cad = (name: string) => new URL(`../../core/test/fixtures/cad/${name}`, import.meta.url).pathname

test.describe.configure({ mode: 'serial' })
let page: Page
let said: string[]
test.beforeAll(async ({ browser }) => {
  page = await browser.newPage()
  said = watchConsole(page)
})
test.afterAll(() => page.close())

/** A ball of 20 mm radius as an ascii PLY mesh, without the cap above z = 19 mm. */
function holedBall(): string {
  const n = 40
  const v: string[] = ['0 0 -20']
  const f: string[] = []
  const rings = n - 1 - Math.ceil((n * Math.acos(19 / 20)) / Math.PI) + 1
  for (let i = 1; i <= rings; i++)
    for (let j = 0; j < 2 * n; j++) {
      const [a, b] = [Math.PI - (Math.PI * i) / n, (Math.PI * j) / n]
      v.push([20 * Math.sin(a) * Math.cos(b), 20 * Math.sin(a) * Math.sin(b), 20 * Math.cos(a)].join(' '))
    }
  const at = (i: number, j: number) => 1 + (i - 1) * 2 * n + (j % (2 * n))
  for (let j = 0; j < 2 * n; j++) {
    f.push(`3 0 ${at(1, j + 1)} ${at(1, j)}`)
    for (let i = 1; i < rings; i++) f.push(`4 ${at(i, j)} ${at(i, j + 1)} ${at(i + 1, j + 1)} ${at(i + 1, j)}`)
  }
  return `ply\nformat ascii 1.0\nelement vertex ${v.length}\nproperty float x\nproperty float y\nproperty float z\nelement face ${f.length}\nproperty list uchar int vertex_indices\nend_header\n${v.join('\n')}\n${f.join('\n')}\n`
}

async function newJob(title: string): Promise<void> {
  await page.goto('/')
  await page.getByRole('banner').getByRole('button', { name: 'New job' }).click()
  await page.getByLabel('Name of the part').fill(title)
  await page.getByRole('button', { name: 'Put it on the bench' }).click()
  await expect(page.getByRole('heading', { name: 'What was recorded?' })).toBeVisible()
}

test('a plate as STL and its STEP as nominal: told apart, faces kept', async () => {
  await newJob('Plate')
  const files = page.locator('input[type=file]')
  await files.setInputFiles(cad('plate_holes_dev.stl'))
  await expect(page.locator('.tray [data-item="plate_holes_dev"]')).toHaveCount(1)
  await page.locator('.card').getByText('A nominal').click()
  await files.setInputFiles(cad('plate_holes_dev.step'))
  await expect(page.locator('.tray')).toContainText('17 faces')
  await drawn(page)
})

test('datum on chosen faces, inspect, a flag: the STL differs from its STEP by its chords only', async () => {
  await goTo(page, 'Datum')
  await page.keyboard.press('5')
  await drawn(page)
  // a click on the part chooses a face, another lets it go
  await page.mouse.click(480, 300)
  await expect(page.locator('[data-faces]')).toHaveText('1 of 17')
  // what the drawing says of it: the floor of the counterbore, a ring between 18 and 30 mm
  const chosen = page.locator('.chosen-faces li')
  await expect(chosen).toHaveCount(1)
  await expect(chosen).toContainText(`plane, ${(Math.PI * (15 ** 2 - 9 ** 2)).toPrecision(4)} mm²`)
  await chosen.getByRole('button').click()
  await expect(page.locator('[data-faces]')).toHaveText('all of 17')
  await press(page, 'Fit on all faces')
  await ended(page)
  expect(await shownNumber(page, 'best-fit-rms')).toBeLessThan(0.02)
  await press(page, 'Go on to Inspect')
  await drawn(page)
  const limit = page.locator('.card').getByLabel('Fine inside')
  await limit.fill('0.2')
  await limit.press('Enter')
  await press(page, 'Compare')
  await ended(page)
  expect(await shownNumber(page, 'within')).toBeGreaterThan(99.9)
  expect(Math.abs(await shownNumber(page, 'deviation-mean'))).toBeLessThan(0.02)
  await press(page, 'Place a flag')
  await page.locator('#i-label').fill('middle')
  await page.mouse.click(480, 300)
  await ended(page)
  await page.getByText(/^Ledger, \d+ steps$/).click()
  const flag = page.locator('.ledger [data-step="flag"]').first()
  // a plate of few triangles has no second value near: how far values scatter is not known, and nothing is proven
  await expect(flag).toContainText('not decidable')
  await expect(flag).toContainText('label: middle')
  await page.keyboard.press('Escape')
})

test('the recipe of it is a file that names both inputs and every step', async () => {
  await page.getByText(/^Ledger, \d+ steps$/).click()
  const [download] = await Promise.all([page.waitForEvent('download'), page.getByRole('link', { name: 'Save as recipe' }).last().click()])
  expect(download.suggestedFilename()).toBe('Plate recipe.json')
  const recipe = JSON.parse(readFileSync(await download.path(), 'utf8')) as { inputs: object; steps: { operation: string }[]; deliver: { format: string }[] }
  expect(Object.keys(recipe.inputs).sort()).toEqual(['mesh', 'nominal'])
  expect(recipe.steps.map((s) => s.operation)).toEqual(['best-fit', 'deviation', 'flag'])
  await page.keyboard.press('Escape')
})

test('a part brought as a mesh: its gap is closed and flagged, its triangles reduced, and both can be taken back', async () => {
  await newJob('Ball')
  await page.locator('input[type=file]').setInputFiles([{ name: 'ball.ply', mimeType: 'application/octet-stream', buffer: Buffer.from(holedBall()) }])
  await expect(page.locator('.tray [data-item="ball"]')).toBeVisible()
  await goTo(page, 'Merge')
  const size = page.locator('.card').getByLabel('Close gaps up to')
  await size.fill('2')
  await size.press('Enter')
  await press(page, 'Close gaps')
  await ended(page)
  await expect(page.locator('.card .note')).toContainText('no gap of up to 2 mm')
  expect(await shownNumber(page, 'largest-left-across')).toBeGreaterThan(10)
  await size.fill('20')
  await size.press('Enter')
  await press(page, 'Close gaps')
  await ended(page)
  expect(await shownNumber(page, 'open-edges')).toBe(0)
  expect(await shownNumber(page, 'not-measured')).toBeGreaterThan(1)
  const deviation = page.locator('.card').getByLabel('Permitted deviation')
  await deviation.fill('0.1')
  await deviation.press('Enter')
  await press(page, 'Reduce')
  await ended(page)
  expect(await shownNumber(page, 'reduced-largest')).toBeLessThanOrEqual(0.1)
  await goTo(page, 'Deliver')
  await press(page, 'Look it over before it goes')
  await ended(page)
  await expect(page.locator('[data-preflight]')).toContainText('closed')
  // the volume of a ball without its cap, within what was reduced
  const whole = (4 / 3) * Math.PI * 8000
  expect(Math.abs((await shownNumber(page, 'volume')) / whole - 1)).toBeLessThan(0.03)
  expect(await shownNumber(page, 'not-measured')).toBeGreaterThan(1)
  for (let left = 4; left >= 1; left--) {
    await page.keyboard.press('z')
    await expect(page.getByText(`Ledger, ${left} step${left > 1 ? 's' : ''}`, { exact: true })).toBeVisible()
  }
})

test('a page that is left in the middle of a step finds it again, done', async () => {
  await newJob('Left alone')
  const lines: string[] = []
  for (let x = 0; x < 300; x++) for (let y = 0; y < 300; y++) lines.push(`${x / 4} ${y / 4} ${Math.sin(x / 30) * Math.cos(y / 30)}`)
  await page.locator('input[type=file]').setInputFiles([{ name: 'waves.xyz', mimeType: 'text/plain', buffer: Buffer.from(lines.join('\n')) }])
  await expect(page.locator('.tray')).toContainText('1 pass')
  await goTo(page, 'Merge')
  await press(page, 'Merge 1 pass')
  await page.goto('about:blank')
  await page.goto('/')
  await page.getByRole('link', { name: 'Left alone' }).click()
  await goTo(page, 'Merge')
  await ended(page)
  expect(await shownNumber(page, 'pieces')).toBe(1)
  // 0.25 mm apart: a cell of 0.3 was proposed
  expect(await shownNumber(page, 'cell-size')).toBeCloseTo(0.3, 6)
})

test('a job goes only after it was asked for', async () => {
  await page.goto('/')
  await page.getByRole('button', { name: 'More about Ball' }).click()
  await page.getByText('Delete the job').click()
  await page.getByRole('button', { name: 'Keep it' }).click()
  await expect(page.getByRole('link', { name: 'Ball', exact: true })).toBeVisible()
  await page.getByRole('button', { name: 'More about Ball' }).click()
  await page.getByText('Delete the job').click()
  await page.getByRole('button', { name: 'Delete', exact: true }).click()
  await expect(page.getByRole('link', { name: 'Ball', exact: true })).toHaveCount(0)
  expect(said).toEqual([])
})
