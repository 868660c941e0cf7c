import { expect, test, type Page } from '@playwright/test'
import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { goTo, stageButton } from './help.ts'

const AXE = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8')
interface Found {
  id: string
  nodes: { target: string[]; failureSummary: string }[]
}

/** What is wrong by the rules of WCAG 2.2, levels A and AA, as axe-core tests them. */
async function wrong(page: Page): Promise<string[]> {
  await page.evaluate(AXE)
  await page.waitForFunction(() => document.getAnimations().every((a) => a.playState !== 'running' || a.effect?.getComputedTiming().iterations === Infinity))
  // colours on their way from one to another are neither; an answer that comes now may enable a button while the rules are tested
  const still = await page.addStyleTag({ content: '*, *::before, *::after { transition: none !important }' })
  const { violations } = await page.evaluate(() =>
    (globalThis as unknown as { axe: { run(on: Document, o: object): Promise<{ violations: Found[] }> } }).axe.run(document, {
      runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'],
    }),
  )
  await still.evaluate((tag) => (tag as HTMLElement).remove())
  return violations.flatMap((v) => v.nodes.map((n) => `${v.id}: ${n.target.join(' ')} ${n.failureSummary.replace(/\s+/g, ' ').slice(0, 160)}`))
}

for (const evening of [false, true])
  test(`every view can be read and operated (${evening ? 'evening' : 'day'})`, async ({ page }) => {
    test.setTimeout(240_000)
    await page.addInitScript((e) => localStorage.setItem('oak.evening', e ? 'yes' : 'no'), evening)
    const found: Record<string, string[]> = {}
    const look = async (what: string) => {
      const list = await wrong(page)
      if (list.length) found[what] = list
    }
    await page.goto('/')
    const job = page.getByRole('link', { name: /bracket/i }).first()
    await expect(job).toBeVisible({ timeout: 90_000 })
    expect(await page.evaluate(() => document.documentElement.dataset['evening'] === 'yes')).toBe(evening)
    await look('bench')
    await page.getByRole('banner').getByRole('button', { name: 'New job' }).click()
    await expect(page.getByRole('dialog').last()).toBeVisible()
    await look('new job')
    await standsOut(page)
    await page.keyboard.press('Escape')
    await job.click()
    for (const stage of ['Brief', 'Ready', 'Mark', 'Capture', 'Clean', 'Align', 'Merge', 'Datum', 'Inspect', 'Deliver']) {
      // what is drawn in the middle is the same in both: there it is not waited for twice
      if (evening) await stageButton(page, stage).click()
      else await goTo(page, stage)
      await expect(stageButton(page, stage)).toHaveAttribute('aria-current', 'step')
      await expect(page.locator('.card h2').first()).toBeVisible()
      await look(stage)
    }
    await page.getByRole('button', { name: /^Ledger/ }).click()
    await expect(page.getByRole('dialog').last()).toBeVisible()
    await look('ledger')
    await page.keyboard.press('Escape')
    await page.keyboard.press('?')
    await expect(page.getByRole('dialog').last()).toBeVisible()
    await look('keys')
    await page.goto('/')
    await page.getByRole('link', { name: 'Alder' }).click()
    for (const part of ['State', 'Calibrate', 'Verify', 'History']) {
      await page
        .getByRole('button', { name: new RegExp(`^${part}`) })
        .first()
        .click()
      await look(`scanner, ${part}`)
    }
    expect(found).toEqual({})
  })

test('without a mouse: places are picked and the view is turned by keys; single keys can be switched off', async ({ page }) => {
  await page.goto('/')
  await page.getByRole('link', { name: 'Bearing bracket' }).click()
  await goTo(page, 'Clean')
  const canvas = page.getByLabel('3D view')
  await canvas.focus()
  await page.keyboard.press('ArrowRight')
  await expect(page.locator('path.cursor')).toBeVisible()
  await page.keyboard.press('Enter')
  await expect(page.locator('.card')).toContainText('Click two more places')
  for (const key of ['Shift+ArrowDown', 'Shift+ArrowLeft']) {
    for (let k = 0; k < 2; k++) await page.keyboard.press(key)
    await page.keyboard.press('Enter')
  }
  await expect(page.locator('.card')).not.toContainText('more place')
  // where nothing lies, that is said
  for (let k = 0; k < 30; k++) await page.keyboard.press('Shift+ArrowUp')
  await page.keyboard.press('Enter')
  await expect(page.getByRole('status').filter({ hasText: 'There is nothing at that place.' })).toBeAttached()
  await goTo(page, 'Deliver')
  await canvas.focus()
  const axes = () => page.locator('.bearings .axes').innerHTML()
  const before = await axes()
  await page.keyboard.press('ArrowRight')
  await expect.poll(axes).not.toBe(before)
  await page.keyboard.press('?')
  await page.getByLabel('Keys that are pressed alone do something').uncheck()
  await page.keyboard.press('Escape')
  await canvas.focus()
  await page.keyboard.press('l')
  await page.keyboard.press('?')
  await expect(page.getByRole('dialog')).toHaveCount(0)
  await page.keyboard.press('Control+k')
  await expect(page.getByRole('dialog')).toBeVisible()
})

/** Text stands out 4.5 : 1 from every ground, and what can be pressed or written into 3 : 1. */
async function standsOut(page: Page): Promise<void> {
  const { colours, border, dialog } = await page.evaluate(() => {
    const css = getComputedStyle(document.documentElement)
    const names = ['paper', 'paper-2', 'bench', 'card', 'ink', 'soft', 'oak', 'deep', 'slate', 'brick', 'edge']
    const rgb = (c: string) => {
      const at = document.createElement('canvas').getContext('2d') as CanvasRenderingContext2D
      at.fillStyle = c
      at.fillRect(0, 0, 1, 1)
      return [...at.getImageData(0, 0, 1, 1).data].slice(0, 3)
    }
    const input = document.querySelector('.ant-modal input') as Element
    return {
      colours: Object.fromEntries(names.map((n) => [n, rgb(css.getPropertyValue(`--${n}`).trim())])),
      border: rgb(getComputedStyle(input).borderTopColor),
      dialog: rgb(getComputedStyle(input).backgroundColor),
    }
  })
  const weak: string[] = []
  for (const ground of ['paper', 'paper-2', 'bench', 'card']) {
    if (contrast(colours['edge'], colours[ground]) < 3) weak.push(`edge on ${ground}`)
    for (const text of ['ink', 'soft', 'oak', 'deep', 'slate', 'brick']) if (contrast(colours[text], colours[ground]) < 4.5) weak.push(`${text} on ${ground}`)
  }
  if (contrast(border, dialog) < 3) weak.push(`the border of a field: ${border.join(' ')} on ${dialog.join(' ')}`)
  expect(weak).toEqual([])
}

/** Contrast of two colours, WCAG 2.2. */
function contrast(a: number[], b: number[]): number {
  const luminance = (c: number[]) => {
    const [r, g, b] = c.map((v) => v / 255).map((v) => (v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4))
    return 0.2126 * r + 0.7152 * g + 0.0722 * b
  }
  const [dark, light] = [luminance(a), luminance(b)].sort((x, y) => x - y)
  return (light + 0.05) / (dark + 0.05)
}
