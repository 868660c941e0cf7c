import { expect, test } from '@playwright/test'
import { mkdirSync, readFileSync, utimesSync, writeFileSync } from 'node:fs'
import { PNG } from 'pngjs'
import type { JobState } from '@oak-gauge/contract'
import { identity } from '@oak-gauge/core/base/mat4.ts'
import { MATERIALS } from '@oak-gauge/core/scanner/scene.ts'
import { lookingAt } from '@oak-gauge/core/scanner/seemarkers.ts'
import { takeShot } from '@oak-gauge/core/scanner/shot.ts'
import { designedStereo } from '@oak-gauge/core/scanner/spec.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'
import { tray } from '../../core/test/tray.ts'
import { drawn, ended, goTo, press, shownNumber, stlVolume, stripNumber, watchConsole } from './help.ts'

/** A cube as an ascii STL: 12 triangles. */
function cubeStl(side: number): string {
  const c = (i: number) => `${i & 1 ? side : 0} ${i & 2 ? side : 0} ${i & 4 ? side : 0}`
  const quads = [
    [0, 4, 6, 2],
    [1, 3, 7, 5],
    [0, 1, 5, 4],
    [2, 6, 7, 3],
    [0, 2, 3, 1],
    [4, 5, 7, 6],
  ]
  const t = quads.flatMap(([a, b, d, e]) => [
    [a, b, d],
    [a, d, e],
  ])
  return `solid cube\n${t.map((k) => `facet normal 0 0 0\nouter loop\n${k.map((i) => `vertex ${c(i)}`).join('\n')}\nendloop\nendfacet`).join('\n')}\nendsolid cube\n`
}

test('a new job with own files: the unit is asked, a bad file says why, the mesh leaves as it came', async ({ page }) => {
  const said = watchConsole(page)
  await page.goto('/')
  await page.getByRole('banner').getByRole('button', { name: 'New job' }).click()
  await page.getByLabel('Name of the part').fill('Test cube')
  await page.getByLabel(/^Tolerance/).fill('0,2')
  await page.getByRole('button', { name: 'Put it on the bench' }).click()
  await expect(page.getByRole('heading', { name: 'What was recorded?' })).toBeVisible()
  const files = page.locator('input[type=file]')
  await files.setInputFiles([
    { name: 'cube.stl', mimeType: 'model/stl', buffer: Buffer.from(cubeStl(4)) },
    {
      name: 'broken.ply',
      mimeType: 'application/octet-stream',
      buffer: Buffer.from('ply\nformat ascii 1.0\nelement vertex 500\nproperty float x\nproperty float y\nproperty float z\nend_header\n0 0 0\n'),
    },
  ])
  const question = page.locator('.problem', { hasText: 'cube.stl' })
  await expect(question).toContainText('does not say which unit')
  const broken = page.locator('.problem', { hasText: 'broken.ply' })
  await expect(broken).toBeVisible()
  await broken.getByRole('button', { name: 'Close' }).click()
  await question.getByRole('button', { name: 'in', exact: true }).click()
  await expect(page.locator('.tray [data-item="cube"]')).toBeVisible()
  await drawn(page)
  await goTo(page, 'Deliver')
  await press(page, 'Look it over before it goes')
  await ended(page)
  // 4 in
  expect(await shownNumber(page, 'volume')).toBeCloseTo((4 * 25.4) ** 3, -2)
  await expect(page.locator('[data-preflight]')).toContainText('101.6 × 101.6 × 101.6 mm')
  await expect(page.locator('[data-preflight]')).toContainText('closed')
  const [download] = await Promise.all([page.waitForEvent('download'), page.locator('.card').getByRole('link', { name: 'Save STL' }).click()])
  const { triangles, volume } = stlVolume(readFileSync(await download.path()))
  expect(triangles).toBe(12)
  expect(volume).toBeCloseTo((4 * 25.4) ** 3, 0)
  expect(said).toEqual([])
})

/** The tray seen from a hand that goes round it, each frame a file of points in metres, in the coordinates of the scanner. */
function frameFiles(folder: string, count: number): void {
  const optics = designedStereo({ width: 640, height: 480, focal: 700, baseline: 150, crossing: 450 })
  const things = [{ kind: 'mesh' as const, mesh: tray, bvh: buildBvh(tray, 'median'), pose: identity(), material: MATERIALS.matte }]
  for (let k = 0; k < count; k++) {
    const [a, e] = [2 * k, 55].map((d) => (d * Math.PI) / 180)
    const pose = lookingAt([450 * Math.cos(e) * Math.cos(a), 450 * Math.cos(e) * Math.sin(a), 450 * Math.sin(e)], [0, 0, 0])
    const look = { pose, pattern: 'area' as const, exposure: 1, stride: 5, noise: 0.03, seed: 3 * k + 1 }
    const { xyz } = takeShot({ range: { near: 300, ideal: 450, far: 700 } }, optics, optics, things, look)
    const lines = Array.from({ length: xyz.length / 3 }, (_, i) => [0, 1, 2].map((a) => xyz[3 * i + a] / 1000).join(' '))
    writeFileSync(`${folder}/frame${k}.xyz`, lines.join('\n'))
  }
}

test('a folder of frames becomes a pass: the unit is asked, each frame finds its place', async ({ page }, info) => {
  const said = watchConsole(page)
  const folder = info.outputPath('round the tray')
  mkdirSync(folder)
  frameFiles(folder, 16)
  writeFileSync(
    `${folder}/frames.json`,
    JSON.stringify({ noise: 0.00008, frames: Array.from({ length: 15 }, (_, k) => ({ file: `frame${k}.xyz`, time: 200 * k })) }),
  )
  const made = await page.request.post('/api/v1/jobs', { data: { title: 'Tray in frames' } })
  const { job } = (await made.json()) as JobState
  await page.goto(`/jobs/${job.id}/Capture`)
  await page.getByText('Frames', { exact: true }).click()
  const [chosen] = await Promise.all([page.waitForEvent('filechooser'), press(page, 'Choose a whole folder')])
  await chosen.setFiles(folder)
  const question = page.locator('.problem', { hasText: 'round the tray.zip' })
  await expect(question).toContainText('nothing says which unit')
  await question.getByRole('button', { name: 'm', exact: true }).click()
  await expect(page.getByRole('group', { name: 'Tray' })).toContainText('1 pass')
  await drawn(page)
  // of sixteen files the list names fifteen
  expect(await stripNumber(page, 'Frames')).toBe(15)
  await expect(page.getByRole('region', { name: 'How it went' })).toContainText('steady')
  const { steps } = (await (await page.request.get(`/api/v1/jobs/${job.id}`)).json()) as JobState
  const told = (id: string) => Number(steps.at(-1)?.evidence?.quantities.find((q) => q.id === id)?.value)
  // stated by how points scatter, some 0.08 mm, over thousands of them
  expect(told('frame-sigma-median')).toBeLessThan(0.05)
  expect(told('frames-not-placed')).toBe(0)
  // two frames are no folder: they are packed as well
  await page
    .locator('.card input[type=file]')
    .first()
    .setInputFiles([`${folder}/frame0.xyz`, `${folder}/frame1.xyz`])
  await expect(page.locator('.problem', { hasText: 'frame0.zip' })).toContainText('nothing says which unit')
  expect(said).toEqual([])
})

test('every action has a key or a name; evening colours stay', async ({ page }) => {
  await page.goto('/')
  await page.getByRole('link', { name: 'Test cube' }).click()
  await drawn(page)
  await page.keyboard.press('Control+k')
  await page.getByLabel('Find any action').last().fill('go to brief')
  await page.keyboard.press('Enter')
  await expect(page.getByRole('heading', { name: 'What is asked of this part?' })).toBeVisible()
  await page.keyboard.press('?')
  await expect(page.getByText('frame everything')).toBeVisible()
  await page.keyboard.press('Escape')
  await page.getByRole('button', { name: 'Evening' }).click()
  await page.reload()
  await expect(page.locator('html')).toHaveAttribute('data-evening', 'yes')
  await page.getByRole('button', { name: 'Day' }).click()
})

test('an address that leads to no job says so', async ({ page }) => {
  await page.goto('/jobs/00000000-0000-4000-8000-000000000000')
  await expect(page.getByText('There is no such job.')).toBeVisible()
  await page.getByRole('link', { name: 'Back to the bench' }).click()
  await expect(page.getByRole('heading', { name: 'Jobs' })).toBeVisible()
})

test('a file of which a part had come goes on from there when it is chosen again', async ({ page }, info) => {
  const said = watchConsole(page)
  const { job, setups } = (await (await page.request.post('/api/v1/jobs', { data: { title: 'Half a file' } })).json()) as JobState
  const text = Buffer.from(Array.from({ length: 300_000 }, (_, i) => `${(i % 700) / 10} ${Math.floor(i / 700) / 10} ${((i * 7) % 13) / 100}`).join('\n'))
  const file = info.outputPath('long.xyz')
  writeFileSync(file, text)
  const modified = 1_750_000_000_000
  utimesSync(file, modified / 1000, modified / 1000)
  // another browser, which was closed in the middle
  const told = { job: job.id, name: 'long.xyz', modified: String(modified), setup: setups[0].id }
  const pairs = Object.entries(told).map(([k, v]) => `${k} ${Buffer.from(v).toString('base64')}`)
  const tus = { 'tus-resumable': '1.0.0' }
  const begun = await page.request.post('/api/v1/uploads', { headers: { ...tus, 'upload-length': String(text.length), 'upload-metadata': pairs.join(',') } })
  const half = Math.round(0.61 * text.length)
  await page.request.patch(begun.headers()['location'], {
    headers: { ...tus, 'upload-offset': '0', 'content-type': 'application/offset+octet-stream' },
    data: text.subarray(0, half),
  })
  await page.goto(`/jobs/${job.id}/capture`)
  await expect(page.locator('.file', { hasText: 'long.xyz' })).toContainText('61 % of')
  const offsets: number[] = []
  page.on('request', (r) => {
    if (r.method() === 'PATCH' && r.url().includes('/uploads/')) offsets.push(Number(r.headers()['upload-offset']))
  })
  await page.locator('input[type=file]').setInputFiles(file)
  await expect(page.locator('.tray')).toContainText('1 pass')
  expect(offsets).toEqual([half])
  await expect(page.locator('.card .file')).toHaveCount(1)
  await expect(page.locator('.card .file')).toContainText('300 k')
  // left alone, the cloud is drawn whole: no gaps within it, and lit
  const canvas = page.locator('canvas[data-refined="300000"]')
  await expect(canvas).toBeVisible()
  const { data, width } = PNG.sync.read(await canvas.screenshot())
  let [dark, cloud] = [0, 0]
  for (let i = 0; i < data.length; i += 4) {
    const [r, g, b] = data.subarray(i, i + 3)
    if (r + g + b < 60) dark++
    else if (Math.max(r, g, b) - Math.min(r, g, b) > 25) cloud++
  }
  expect(width).toBeGreaterThan(500)
  expect(cloud).toBeGreaterThan(20_000)
  expect(dark).toBeLessThan(cloud / 5)
  expect(said).toEqual([])
})

test('eight windows share one line to the server, and all show what one of them changed', async ({ page, context }) => {
  const { job } = (await (await page.request.post('/api/v1/jobs', { data: { title: 'Many windows' } })).json()) as JobState
  const windows = [page]
  for (let k = 1; k < 8; k++) windows.push(await context.newPage())
  for (const w of windows) {
    await w.goto(`/jobs/${job.id}/brief`)
    await expect(w.getByRole('heading', { level: 1, name: 'Many windows' })).toBeVisible()
  }
  await page.request.patch(`/api/v1/jobs/${job.id}`, { data: { title: 'One line' } })
  for (const w of windows) await expect(w.getByRole('heading', { level: 1, name: 'One line' })).toBeVisible()
})

test('points are drawn in the colours of their passes, as they were recorded, or plain', async ({ page }) => {
  const { job } = (await (await page.request.post('/api/v1/jobs', { data: { title: 'Painted' } })).json()) as JobState
  const painted = Array.from({ length: 40_000 }, (_, i) => `${(i % 200) / 4} ${Math.floor(i / 200) / 4} 0 210 20 30`)
  await page.request.put(`/api/v1/jobs/${job.id}/files?name=painted.xyz&unit=mm`, { data: painted.join('\n') })
  await page.goto(`/jobs/${job.id}/Capture`)
  await expect(page.locator('.tray')).toContainText('1 pass', { timeout: 60_000 })
  /** mean colour of what is drawn in the middle of the view */
  const middle = async () => {
    await drawn(page)
    const { data, width, height } = PNG.sync.read(await page.getByLabel('3D view').screenshot())
    const sum = [0, 0, 0]
    for (let y = -20; y < 20; y++)
      for (let x = -20; x < 20; x++) for (let k = 0; k < 3; k++) sum[k] += data[4 * (((height >> 1) + y) * width + (width >> 1) + x) + k] / 1600
    return sum
  }
  const colours = page.getByLabel('Colours')
  const [ownRed, ownGreen] = await middle()
  expect(ownRed - ownGreen).toBeLessThan(80)
  await colours.selectOption('as recorded')
  const [red, green, blue] = await middle()
  expect([red > 2.5 * green, red > 2.5 * blue]).toEqual([true, true])
  await colours.selectOption('plain')
  const plain = await middle()
  expect(Math.max(...plain) - Math.min(...plain)).toBeLessThan(60)
})
