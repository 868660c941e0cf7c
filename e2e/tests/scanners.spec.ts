import { expect, test, type Page } from '@playwright/test'
import { PNG } from 'pngjs'
import { multiply } from '@oak-gauge/core/base/mat4.ts'
import { targetPoses } from '@oak-gauge/core/calibrate/targets.ts'
import { plateImage, rayTable } from '@oak-gauge/core/scanner/plateimage.ts'
import { PLATES } from '@oak-gauge/scanners/artefacts.ts'
import { DEVICES } from '@oak-gauge/scanners/devices.ts'
import { press, stripNumber, watchConsole } from './help.ts'

/** Opens the page of a scanner by its name, from the shelf. */
async function openScanner(page: Page, name: string): Promise<void> {
  await page.goto('/')
  await page.locator(`[data-scanner="${name}"]`).getByRole('link').click()
  await expect(page.getByRole('heading', { level: 1 })).toHaveText(name)
}
const part = (page: Page, name: string) =>
  page
    .getByRole('navigation', { name: 'Parts' })
    .getByRole('button', { name: new RegExp(`^${name}`) })
    .click()

/** A button of the card, pressed if the card has it; the card has to be there with its own buttons first. */
async function pressIfThere(page: Page, name: string): Promise<void> {
  await expect(page.locator('.card .foot .ant-btn').first()).toBeVisible()
  const b = page.locator('.card').getByRole('button', { name })
  if (await b.count()) await b.click()
}

/** Switches it on, and waits until it is warm; its clock is fast in these tests. */
async function warmUp(page: Page): Promise<void> {
  await pressIfThere(page, 'Switch it on')
  await expect(page.locator('figcaption')).toContainText('its temperature has settled', { timeout: 60_000 })
}

/** A figure read off a table or the card. */
async function figure(page: Page, name: string): Promise<number> {
  const text = await page.locator(`[data-quantity="${name}"], [data-number="${name}"]`).first().innerText()
  return Number(/-?[\d.]+/.exec(text.replace('−', '-'))?.[0])
}

/** Measures all positions of the bar and reads the verdict. */
async function verify(page: Page): Promise<{ verdict: string; distance: number }> {
  await expect(page.getByRole('heading', { name: /Which ball bar is it|against its limits/ })).toBeVisible()
  await pressIfThere(page, 'Verify again')
  await press(page, 'Begin')
  await press(page, 'Measure this position')
  await expect(page.locator('[data-readings="1"]')).toBeVisible({ timeout: 60_000 })
  await press(page, 'Measure all that are left')
  await expect(page.locator('[data-verdict]')).toBeVisible({ timeout: 120_000 })
  return { verdict: (await page.locator('[data-verdict]').getAttribute('data-verdict')) ?? '', distance: await figure(page, 'distance') }
}

test('Alder: a pose by hand, the rest by script, put into use, verified; dropped and restored', async ({ page }) => {
  test.setTimeout(400_000)
  const said = watchConsole(page)
  await openScanner(page, 'Alder')
  await warmUp(page)
  expect(await stripNumber(page, 'Temperature')).toBeGreaterThan(30)
  await part(page, 'Calibrate')
  // by hand: what the guidance says is done by its own nudges until the pose is taken
  await press(page, 'Begin')
  await expect(page.locator('[data-camera="left"]')).toBeVisible({ timeout: 30_000 })
  const nudges: Record<string, number> = { away: 10, right: 10, down: 10, topAway: 5, rightAway: 5, turn: 15 }
  const taken = page.locator('[data-quantity="taken"]')
  const sequence = async () => Number(await page.locator('[data-sequence]').getAttribute('data-sequence'))
  for (let round = 0; round < 25 && (await taken.innerText()) === '0'; round++) {
    for (const [way, step] of Object.entries(nudges)) {
      const line = page.locator(`[data-movement="${way}"]`)
      const words = await line.locator('.words').innerText()
      const n = Math.round(Number(/^\d+/.exec(words)?.[0] ?? 0) / step)
      const plus = /further|to the right|^\d+ mm down|top away|right side away|° clockwise/.test(words)
      for (let k = 0; k < n; k++)
        await line
          .locator('button')
          .nth(plus ? 1 : 0)
          .click()
    }
    // two pictures of the plate as it lies now: whether it is still is seen by the second
    const before = await sequence()
    await expect.poll(sequence, { timeout: 20_000 }).toBeGreaterThan(before + 2)
  }
  await expect(taken).not.toHaveText('0')
  await press(page, 'Give up')
  await page.getByText('by script').click()
  await press(page, 'Begin')
  const use = page.locator('.card').getByRole('button', { name: 'Put it into use' })
  await expect(use).toBeVisible({ timeout: 120_000 })
  // known truth: the noise of reading a dot is 0.008 px, the design has 1050 px within a percent and 140 mm within one
  expect(await figure(page, 'rms')).toBeLessThan(0.02)
  expect(Math.abs((await figure(page, 'left fx')) / 1050 - 1)).toBeLessThan(0.015)
  expect(Math.abs((await figure(page, 'baseline')) / 140 - 1)).toBeLessThan(0.01)
  await expect(page.getByRole('img', { name: /left camera as a field of arrows/ })).toBeVisible()
  await use.click()
  await expect(page.getByText('Which ball bar is it?').or(page.getByText('Alder against its limits'))).toBeVisible()
  const good = await verify(page)
  expect(good.verdict).toBe('pass')
  expect(Math.abs(good.distance)).toBeLessThan(0.03)
  const pdf = await page.request.get((await page.getByRole('link', { name: 'Certificate to print' }).getAttribute('href')) ?? '')
  expect([pdf.status(), (await pdf.body()).subarray(0, 5).toString()]).toEqual([200, '%PDF-'])

  await part(page, 'State')
  await expect(page.locator('[data-health]')).toHaveAttribute('data-health', 'go')
  await page.getByText('Stand-in', { exact: true }).click()
  await press(page, 'Drop it')
  await expect(page.locator('[data-health]')).toHaveAttribute('data-health', 'due')
  await part(page, 'Verify')
  const bad = await verify(page)
  expect([bad.verdict, Math.abs(bad.distance) > 0.1]).toEqual(['fail', true])
  await page.goto('/')
  await expect(page.locator('[data-scanner="Alder"]')).toContainText('not fit for use')
  await openScanner(page, 'Alder')
  await part(page, 'Calibrate')
  await expect(page.getByRole('heading', { name: /Which plate is it|calibration is/ })).toBeVisible()
  await pressIfThere(page, 'Calibrate again')
  await page.getByText('by script').click()
  await press(page, 'Begin')
  await expect(use).toBeVisible({ timeout: 120_000 })
  await use.click()
  expect((await verify(page)).verdict).toBe('pass')
  await part(page, 'History')
  await expect(page.getByRole('list', { name: 'Calibrations' }).locator('li').first()).toContainText('in use')
  expect(said).toEqual([])
})

test('Hazel calibrates by herself and keeps her word', async ({ page }) => {
  test.setTimeout(300_000)
  const said = watchConsole(page)
  await openScanner(page, 'Hazel')
  await warmUp(page)
  await part(page, 'Calibrate')
  await press(page, 'Begin')
  const use = page.locator('.card').getByRole('button', { name: 'Put it into use' })
  await expect(use).toBeVisible({ timeout: 120_000 })
  expect(await figure(page, 'rms')).toBeLessThan(0.02)
  expect(Math.abs((await figure(page, 'baseline')) / 130 - 1)).toBeLessThan(0.01)
  await use.click()
  const v = await verify(page)
  expect(v.verdict).toBe('pass')
  expect(Math.abs(v.distance)).toBeLessThan(0.02)
  expect(said).toEqual([])
})

test('a plate file that does not belong to the plate is said; a certificate of one’s own comes in; a bad one does not', async ({ page }) => {
  test.setTimeout(120_000)
  await openScanner(page, 'Birch')
  await warmUp(page)
  await part(page, 'Calibrate')
  const own = {
    format: 'oak-gauge plate',
    version: 1,
    id: 'OWN',
    name: 'Own plate',
    columns: 17,
    rows: 11,
    pitch: 18,
    diameter: 7.5,
    largeDiameter: 11,
    large: [
      [3, 2],
      [11, 4],
      [6, 8],
    ],
    certificate: { number: 'X1', date: '2026-05-01', expansion: 8 },
  }
  const file = (o: string) => ({ name: 'own.json', mimeType: 'application/json', buffer: Buffer.from(o) })
  const input = page.getByLabel('Certificate file of a plate')
  await input.setInputFiles(file(JSON.stringify(own).replace('"pitch":18', '"pitch":NaN')))
  await expect(page.locator('.problem')).toContainText('NaN where a number belongs')
  await input.setInputFiles(file(JSON.stringify(own)))
  await expect(page.getByText('Own plate was added.')).toBeVisible()
  await page.locator('#plate').click()
  await page.getByText('Own plate, 18 mm').click()
  await page.getByText('Stand-in', { exact: true }).click()
  await page.locator('#on-bench').click()
  await page.locator('.ant-select-dropdown:visible').getByText('Quoin 20', { exact: true }).click()
  await press(page, 'Begin')
  await expect(page.locator('.say')).toContainText('The dots in view are not those of Own plate.', { timeout: 30_000 })
  await press(page, 'Give up')
})

test('a calibration from image files of one’s own finds the cameras they were taken with', async ({ page }) => {
  test.setTimeout(180_000)
  const { spec } = DEVICES['rowan']
  const plate = PLATES[0]
  const truth = { ...spec.design, left: { ...spec.design.left, fx: 1503, fy: 1502, k1: -0.1 } }
  const rays = [rayTable(truth.left), rayTable(truth.right)]
  const files = targetPoses(spec, spec.design, plate)
    .slice(0, 9)
    .flatMap((t, k) =>
      [truth.left, truth.right].map((camera, i) => {
        const im = plateImage(camera, rays[i], { plates: [{ plate, pose: i ? multiply(truth.pose, t.pose) : t.pose, celsius: 20 }], seed: 2 * k + i })
        const png = new PNG({ width: im.width, height: im.height })
        for (let j = 0; j < im.data.length; j++) png.data.fill(im.data[j], 4 * j, 4 * j + 3).fill(255, 4 * j + 3, 4 * j + 4)
        return { name: `pose${k}_${i ? 'right' : 'left'}.png`, mimeType: 'image/png', buffer: PNG.sync.write(png) }
      }),
    )
  await openScanner(page, 'Rowan')
  await part(page, 'Calibrate')
  await page.getByText('from images').click()
  await page.locator('#images').setInputFiles(files)
  await expect(page.getByText('9 pairs among 18 files')).toBeVisible()
  await press(page, 'Measure 9 pairs of images')
  await expect(page.locator('[data-verdict]')).toBeVisible({ timeout: 120_000 })
  expect(Math.abs((await figure(page, 'left fx')) - 1503)).toBeLessThan(0.3)
  expect(Math.abs((await figure(page, 'left fy')) - 1502)).toBeLessThan(0.3)
  expect(await figure(page, 'rms')).toBeLessThan(0.02)
})

test('a job says whether its scanner is fine enough', async ({ page }) => {
  test.setTimeout(180_000)
  await page.goto('/')
  // what the demo workshop measured in the last weeks is there some time after the first start
  await expect(page.locator('[data-scanner="Alder"]')).toContainText('on the ball bar', { timeout: 120_000 })
  await page.getByRole('button', { name: 'New job' }).first().click()
  await page.getByLabel('Name of the part').fill('Cill plate')
  await page.getByLabel('Tolerance, full width').fill('0.05')
  await page.getByRole('button', { name: 'Put it on the bench' }).click()
  await page
    .getByRole('navigation', { name: 'Stages' })
    .getByRole('button', { name: /^Ready/ })
    .click()
  await page.getByRole('radio', { name: /Alder/ }).click()
  await expect(page.locator('[data-fit]')).toBeVisible()
  await page
    .getByRole('navigation', { name: 'Stages' })
    .getByRole('button', { name: /^Brief/ })
    .click()
  await expect(page.locator('[data-fit]')).toContainText('of the tolerance of 0.05 mm')
})
