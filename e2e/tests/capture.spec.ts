import { expect, test, type Page } from '@playwright/test'
import { writeAny } from '@oak-gauge/core/formats/index.ts'
import { tray } from '../../core/test/tray.ts'
import { drawn, ended, press, shownNumber, stripNumber, watchConsole } from './help.ts'

/** A pass from a scanner on the real page: aimed, recorded by shape with the virtual hand, torn away, led back, held, ended. What stands there is a tray of known shape. */
test.describe.configure({ mode: 'serial' })
let page: Page
let said: string[]
test.beforeAll(async ({ browser }) => {
  page = await browser.newPage()
  said = watchConsole(page)
})
test.afterAll(async () => {
  const scanners = ((await (await page.request.get('/api/v1/scanners')).json()) as { items: { id: string; name: string }[] }).items
  const birch = scanners.find((s) => s.name === 'Birch')
  // what a test that failed left open would stand in the way of those that come after
  if (birch) await page.request.post(`/api/v1/scanners/${birch.id}/run/cancel`, { data: {} })
  if (birch) await page.request.patch(`/api/v1/scanners/${birch.id}`, { data: { on: false } })
  await page.close()
})
const tracking = () => page.locator('[data-tracking]')

test('a scanner is aimed, and nothing is recorded before it is asked for', async () => {
  test.setTimeout(240_000)
  const made = await page.request.post('/api/v1/jobs', { data: { title: 'Tray' } })
  const job = ((await made.json()) as { job: { id: string } }).job.id
  await page.request.put(`/api/v1/jobs/${job}/files?name=tray.stl&role=nominal&unit=mm`, { data: Buffer.concat([...writeAny('stl', tray, 'tray')]) })
  await page.goto(`/jobs/${job}/Capture`)
  await ended(page)
  await page.getByText('With a scanner').click()
  await page.getByLabel('Scanner', { exact: true }).click()
  await page.getByTitle('Birch', { exact: true }).click()
  const on = page.getByRole('button', { name: 'Switch it on' })
  if (await on.isVisible()) await on.click()
  await expect(page.locator('.card')).toContainText('its shape (there is no map)')
  const anyway = page.getByText('Record anyway', { exact: false })
  await expect(page.getByRole('button', { name: 'Aim with Birch' }).or(anyway)).toBeVisible({ timeout: 60_000 })
  if (await anyway.isVisible()) await anyway.click()
  await page.getByLabel('Spacing').fill('1.5')
  await page.getByLabel('Spacing').press('Enter')
  await expect(page.getByRole('button', { name: 'Aim with Birch' })).toBeEnabled({ timeout: 60_000 })
  await press(page, 'Aim with Birch')
  await expect(page.getByRole('heading', { name: 'Hold Birch over the part, and record' })).toBeVisible()
  expect(await shownNumber(page, 'frames')).toBe(0)
})

test('it is led, torn away and lost, led back and found; what waited is placed', async () => {
  test.setTimeout(240_000)
  await press(page, 'Record')
  await press(page, 'Lead it once round')
  await expect.poll(() => shownNumber(page, 'frames'), { timeout: 60_000 }).toBeGreaterThan(100)
  await expect(tracking()).toHaveAttribute('data-tracking', 'steady')
  // beside the part, where it sees nothing: tilted only, it may be found again where it is
  for (let k = 0; k < 10; k++) await press(page, '▸')
  await expect(tracking()).toHaveAttribute('data-tracking', /lost|finding/)
  await expect(page.getByRole('heading', { name: 'Lost: lead it back to where it knew its place' })).toBeVisible()
  await expect(page.locator('[data-led="ghost"]')).toContainText('lead it back to here')
  await press(page, 'Lead it back')
  await expect(tracking()).toHaveAttribute('data-tracking', 'steady', { timeout: 60_000 })
  await expect(page.locator('[data-led="scanner"]')).toBeVisible()
  await press(page, 'Hold')
  await expect(page.getByRole('heading', { name: 'Held: nothing is recorded' })).toBeVisible()
  // only now: while it grows, a slow machine draws without a rest
  await drawn(page)
  const frames = await shownNumber(page, 'frames')
  await press(page, 'Go on')
  await expect.poll(() => shownNumber(page, 'frames'), { timeout: 30_000 }).toBeGreaterThan(frames)
})

test('its end is a pass of the job', async () => {
  test.setTimeout(300_000)
  await press(page, 'That is all: make the pass')
  // solved on the worker: its evidence comes with it
  await expect(page.locator('[data-strip="Ends meet within"]')).toBeVisible({ timeout: 240_000 })
  await ended(page)
  expect(await stripNumber(page, 'Ends meet within')).toBeLessThan(0.08)
  expect(await stripNumber(page, 'Points')).toBeGreaterThan(30_000)
  await press(page, 'Go on to Clean')
  await drawn(page)
  expect(said).toEqual([])
})
