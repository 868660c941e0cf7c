import { expect, test, type Page } from '@playwright/test'
import type { JobState } from '@oak-gauge/contract'
import { drawn, ended, goTo, press, shownNumber } from './help.ts'

/** A block on a table with a step at one corner, 1 mm grid, as point text; shifted along x. */
function scan(shift: number): Buffer {
  const lines: string[] = []
  for (let x = -40; x <= 40; x++)
    for (let y = -30; y <= 30; y++) {
      const block = Math.abs(x) <= 20 && Math.abs(y) <= 12
      const z = block ? (x > 5 && y > 0 ? 18 : 12) : 0
      lines.push(`${x + shift} ${y} ${z}`)
      // walls of the block, as a scanner would see them from the sides
      if (block && (Math.abs(x) === 20 || Math.abs(y) === 12)) for (let h = 1; h < z; h++) lines.push(`${x + shift} ${y} ${h}`)
    }
  return Buffer.from(lines.join('\n'))
}

async function newJob(page: Page, name: string): Promise<string> {
  await page.goto('/')
  await page.getByRole('banner').getByRole('button', { name: 'New job' }).click()
  await page.getByLabel('Name of the part').fill(name)
  await page.getByRole('button', { name: 'Put it on the bench' }).click()
  await expect(page.getByRole('heading', { name: 'What was recorded?' })).toBeVisible()
  return page.url().split('/').at(-2) as string
}

const state = async (page: Page, id: string): Promise<JobState> => (await (await page.request.get(`/api/v1/jobs/${id}`)).json()) as JobState

async function loop(page: Page, corners: [number, number][]): Promise<void> {
  await page.mouse.move(...corners[0])
  await page.mouse.down()
  for (const c of [...corners.slice(1), corners[0]]) await page.mouse.move(...c, { steps: 8 })
  await page.mouse.up()
}

test('by hand: a loop marks what would go; inverted it keeps it; taken away, and brought back by Z', async ({ page }) => {
  const id = await newJob(page, 'Loop')
  await page.locator('input[type=file]').setInputFiles([{ name: 'scan.xyz', mimeType: 'text/plain', buffer: scan(0) }])
  await expect(page.locator('.tray')).toBeVisible()
  await goTo(page, 'Clean')
  await page.locator('.card').getByText('By hand', { exact: true }).click()
  await page.keyboard.press('5')
  await drawn(page)
  const before = (await state(page, id)).tray[0].count
  // seen from above the left half of the stage is the left half of the part
  await loop(page, [
    [150, 190],
    [518, 190],
    [518, 700],
    [150, 700],
  ])
  await ended(page)
  const gone = await shownNumber(page, 'points-gone')
  expect(gone / before).toBeGreaterThan(0.4)
  expect(gone / before).toBeLessThan(0.6)
  await page.locator('.card').getByRole('switch', { name: 'Invert' }).click()
  await expect(async () => expect(await shownNumber(page, 'points-gone')).toBe(before - gone)).toPass({ timeout: 20_000 })
  await press(page, 'Take away')
  await ended(page)
  expect((await state(page, id)).tray[0].count).toBe(gone)
  await page.keyboard.press('z')
  await expect(async () => expect((await state(page, id)).tray[0].count).toBe(before)).toPass({ timeout: 10_000 })
})

test('by pairs: the same places on both sides, the result shows while they are picked, the loose setup moves onto the anchor', async ({ page }) => {
  const id = await newJob(page, 'Pairs')
  const files = page.locator('input[type=file]')
  await files.setInputFiles([{ name: 'anchor.xyz', mimeType: 'text/plain', buffer: scan(400) }])
  await expect(page.locator('.tray')).toContainText('1 pass')
  await page.locator('.card').getByRole('button', { name: 'New', exact: true }).click()
  await expect(page.locator('.card')).toContainText('Setup 2')
  await files.setInputFiles([{ name: 'loose.xyz', mimeType: 'text/plain', buffer: scan(405) }])
  await expect(page.locator('.tray')).toContainText('Setup 2')
  await goTo(page, 'Align')
  await page.locator('.card').getByText('Pairs', { exact: true }).click()
  await drawn(page)
  // far from the origin, too, both sides show the same shape, framed alike: the same place lies half a stage further right
  for (const [x, y] of [
    [250, 420],
    [400, 400],
    [311, 470],
    [330, 380],
  ]) {
    await page.mouse.click(x, y)
    await page.mouse.click(x + 414, y)
  }
  expect(await shownNumber(page, 'pairs-rms')).toBeLessThan(1.5)
  await press(page, /^Align by 4 pairs/)
  await ended(page)
  const loose = (await state(page, id)).tray.find((i) => i.name === 'loose')
  expect(Math.abs((loose?.pose[3] ?? 0) + 5)).toBeLessThan(1)
})
