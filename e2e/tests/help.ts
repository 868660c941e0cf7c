import { expect, type Page } from '@playwright/test'

/** The card's own button, not the stage of the same name on the rule. */
export const press = (page: Page, name: string | RegExp) => page.locator('.card').getByRole('button', { name }).click()

export const stageButton = (page: Page, stage: string) =>
  page.getByRole('navigation', { name: 'Stages' }).getByRole('button', { name: new RegExp(`^${stage}`) })

export async function goTo(page: Page, stage: string): Promise<void> {
  const button = stageButton(page, stage)
  await button.click()
  await expect(button).toHaveAttribute('aria-current', 'step')
  await drawn(page)
}

/** frames: a page takes two or three from a change to the effects of it */
const STILL = 6

/** Everything that the stage shall show has arrived and is drawn. */
export async function drawn(page: Page): Promise<void> {
  await page.evaluate(() => void (document.body.dataset['still'] = '0'))
  await page.waitForFunction(
    (frames) => {
      const { waiting, settled } = document.querySelector<HTMLElement>('canvas[aria-label="3D view"]')?.dataset ?? {}
      const still = waiting === '0' && settled === '1' ? Number(document.body.dataset['still']) + 1 : 0
      document.body.dataset['still'] = String(still)
      return still > frames
    },
    STILL,
    { polling: 'raf', timeout: 60_000 },
  )
}

/** Until the step that was just started has ended. */
export async function ended(page: Page, timeout = 120_000): Promise<void> {
  await expect(page.locator('[data-running]')).toHaveCount(0, { timeout })
}

/** A number read off the work card. */
export async function shownNumber(page: Page, quantity: string): Promise<number> {
  const text = await page.locator(`.card [data-quantity="${quantity}"]`).first().innerText()
  return Number(text.replace(/\u202f/g, '').replace(/[^\d.+-].*$/, ''))
}

export async function stripNumber(page: Page, label: string): Promise<number> {
  const text = await page.locator(`[data-strip="${label}"]`).innerText()
  return Number(text.replace(/\u202f/g, '').replace(/[^\d.+-].*$/s, ''))
}

/** Errors of the page; a test that asks for them at its end finds none. */
export function watchConsole(page: Page): string[] {
  const said: string[] = []
  page.on('console', (m) => {
    if (m.type() === 'error' || (m.type() === 'warning' && !/GPU stall|GL Driver Message/.test(m.text()))) said.push(m.text())
  })
  page.on('pageerror', (e) => said.push(e.message))
  return said
}

/** Volume of a binary STL by the divergence theorem. */
export function stlVolume(b: Buffer): { triangles: number; volume: number } {
  const n = b.readUInt32LE(80)
  let volume = 0
  for (let i = 0; i < n; i++) {
    const v = Array.from({ length: 9 }, (_, k) => b.readFloatLE(84 + 50 * i + 12 + 4 * k))
    volume += (v[0] * (v[4] * v[8] - v[5] * v[7]) - v[1] * (v[3] * v[8] - v[5] * v[6]) + v[2] * (v[3] * v[7] - v[4] * v[6])) / 6
  }
  return { triangles: n, volume }
}
