import { describe, expect, it } from '@jest/globals'
import { seeded } from '../src/base/random.ts'
import { transformPoint } from '../src/base/mat4.ts'
import { cameraToArray, project } from '../src/calibrate/camera.ts'
import { centreBias } from '../src/calibrate/centrebias.ts'
import { findDots } from '../src/calibrate/dots.ts'
import { findLattices } from '../src/calibrate/lattice.ts'
import { dotDiameters, plateSchema, platePoints, readPlateFile } from '../src/calibrate/plate.ts'
import { readPlate } from '../src/calibrate/readplate.ts'
import { image, LEFT, outlineCentre, PLATE, posed } from './plates.ts'

const points = platePoints(PLATE)
const diameters = dotDiameters(PLATE)
const c = cameraToArray(LEFT)

describe('dot centres', () => {
  it.each([
    ['straight', posed(400)],
    ['tilted by 34 degrees', posed(420, 0, 0.6, 1.6)],
    ['near', posed(310, 0.1, -0.1)],
    ['far', posed(540, 0.3, 0.3, 0.3)],
  ])('%s, noise of 2 grey levels: within 0.01 px rms of the outline’s middle (asked: 0.03)', (_, pose) => {
    const r = readPlate(image({ plates: [{ plate: PLATE, pose }] }), PLATE)
    expect(r.trouble).toBeNull()
    let ss = 0
    r.ids.forEach((id, i) => {
      const [u, v] = outlineCentre(LEFT, pose, points[3 * id], points[3 * id + 1], diameters[id] / 2)
      ss += (r.pixels[2 * i] - u) ** 2 + (r.pixels[2 * i + 1] - v) ** 2
    })
    expect(r.ids.length).toBeGreaterThan(230)
    expect(Math.sqrt(ss / r.ids.length)).toBeLessThan(0.01)
  })

  it('says how far the middle of the image is from the image of the middle', () => {
    const pose = posed(300, 0.7, 0.2)
    const bias = new Float64Array(2)
    const uv = new Float64Array(2)
    let largest = 0
    for (const id of [0, 60, 120, 246]) {
      const [x, y] = [points[3 * id], points[3 * id + 1]]
      centreBias(c, pose, x, y, 0, 3.75, bias)
      const [u, v] = outlineCentre(LEFT, pose, x, y, 3.75)
      project(c, ...transformPoint(pose, x, y, 0), uv)
      expect(Math.hypot(u - uv[0] - bias[0], v - uv[1] - bias[1])).toBeLessThan(2e-4)
      largest = Math.max(largest, Math.hypot(bias[0], bias[1]))
    }
    expect(largest).toBeGreaterThan(0.03)
  })

  it('measures radius, blur and contrast', () => {
    const d = findDots(image({ plates: [{ plate: PLATE, pose: posed(400) }], blur: 1.5 }))
    const middle = [...d.blur].sort((a, b) => a - b)[d.count >> 1]
    expect(Math.abs(middle - Math.hypot(1.5, Math.sqrt(1 / 12)))).toBeLessThan(0.25)
    expect([...d.ink].every((v, i) => v < 0.3 * d.ground[i])).toBe(true)
  })
})

describe('which dot is which', () => {
  it('right or not at all, in 60 random poses, half of them with parts covered', () => {
    const random = seeded(11)
    const uv = new Float64Array(2)
    let read = 0
    for (let k = 0; k < 60; k++) {
      const lean = () => (random.next() - 0.5) * 1.8
      const pose = posed(300 + 300 * random.next(), lean(), lean(), 6.3 * random.next(), 200 * (random.next() - 0.5), 150 * (random.next() - 0.5))
      const im = image({ plates: [{ plate: PLATE, pose }], seed: k })
      if (k % 2)
        for (let b = 0; b < 6; b++) {
          const [x0, y0, w] = [random.below(960), random.below(700), random.below(60)]
          for (let y = y0; y < y0 + w; y++) im.data.fill(90, y * 1024 + x0, y * 1024 + x0 + w)
        }
      const r = readPlate(im, PLATE)
      if (r.trouble) continue
      read++
      const all = Array.from(diameters, (_, id) => (project(c, ...transformPoint(pose, points[3 * id], points[3 * id + 1], 0), uv), [uv[0], uv[1]]))
      // no other dot of the plate lies nearer, however half-covered dots are shifted
      r.ids.forEach((id, i) => {
        const away = all.map(([u, v]) => Math.hypot(r.pixels[2 * i] - u, r.pixels[2 * i + 1] - v))
        expect([k, away.indexOf(Math.min(...away))]).toEqual([k, id])
      })
    }
    expect(read).toBeGreaterThan(48)
  })

  it('a grid is grown over a missing row, two grids stay two', () => {
    const grid = (x0: number, y0: number, step: number, angle: number) =>
      Array.from({ length: 49 }, (_, i) => {
        const [x, y] = [(i % 7) * step, Math.floor(i / 7) * step]
        return [x0 + x * Math.cos(angle) - y * Math.sin(angle), y0 + x * Math.sin(angle) + y * Math.cos(angle)]
      })
    const holed = grid(100, 100, 20, 0.1).filter((_, i) => Math.floor(i / 7) !== 3)
    expect(findLattices(holed.flat())[0].members.length).toBe(42)
    expect(findLattices([...grid(0, 0, 20, 0), ...grid(400, 300, 13, 0.5)].flat()).map((l) => l.members.length)).toEqual([49, 49])
  })
})

describe('images that cannot be used say why', () => {
  const at = posed(400)
  const code = (im: ReturnType<typeof image>, plate = PLATE) => readPlate(im, plate).trouble?.code
  it('no plate', () => expect(code(image({ plates: [] }))).toBe('no-plate'))
  it('the back of a plate', () => expect(code(image({ plates: [{ plate: PLATE, pose: posed(400, Math.PI) }] }))).toBe('no-plate'))
  it('half out of view, without its large dots', () => expect(code(image({ plates: [{ plate: PLATE, pose: posed(330, 0, 0, 0, -215, 0) }] }))).toBe('half-out'))
  it('partly out of view: used, with advice', () => {
    const r = readPlate(image({ plates: [{ plate: PLATE, pose: posed(330, 0, 0, 0, 130, 0) }] }), PLATE)
    expect([r.trouble, r.advice?.code]).toEqual([null, 'half-out'])
  })
  it('upside down: no trouble at all', () => {
    const r = readPlate(image({ plates: [{ plate: PLATE, pose: posed(400, 0, 0, Math.PI) }] }), PLATE)
    expect([r.trouble, r.ids.length]).toEqual([null, 247])
  })
  it('blurred', () => expect(code(image({ plates: [{ plate: PLATE, pose: at }], blur: 3 }))).toBe('blurred'))
  it('hopelessly blurred', () => expect(['blurred', 'no-plate']).toContain(code(image({ plates: [{ plate: PLATE, pose: at }], blur: 12 }))))
  it('overexposed', () => expect(code(image({ plates: [{ plate: PLATE, pose: at }], exposure: 420 }))).toBe('overexposed'))
  it('drowned in light', () => expect(code(image({ plates: [{ plate: PLATE, pose: at }], exposure: 9000 }))).toBe('overexposed'))
  it('too dark', () => expect(code(image({ plates: [{ plate: PLATE, pose: at }], exposure: 6 }))).toBe('too-dark'))
  it('two plates', () => {
    const small = plateSchema.parse({ ...PLATE, id: 'T7', pitch: 7, diameter: 2.9, largeDiameter: 4.4 })
    const im = image({
      plates: [
        { plate: small, pose: posed(380, 0, 0, 0.2, -90, 0, small) },
        { plate: small, pose: posed(420, 0.2, 0, -0.3, 90, 0, small) },
      ],
    })
    expect(code(im, small)).toBe('two-plates')
  })
  it('the file of another plate', () => {
    const other = plateSchema.parse({
      ...PLATE,
      large: [
        [8, 2],
        [12, 5],
        [3, 9],
      ],
    })
    expect(code(image({ plates: [{ plate: PLATE, pose: at }] }), other)).toBe('wrong-plate')
    const smaller = plateSchema.parse({ ...PLATE, columns: 13, rows: 11 })
    expect(code(image({ plates: [{ plate: PLATE, pose: at }] }), smaller)).toBe('wrong-plate')
  })
  it('large dots covered', () => {
    const im = image({ plates: [{ plate: PLATE, pose: at }] })
    const uv = new Float64Array(2)
    for (const [col, row] of PLATE.large) {
      project(c, ...transformPoint(at, col * 12, row * 12, 0), uv)
      for (let y = -14; y <= 14; y++)
        im.data.fill(170, (Math.round(uv[1]) + y) * 1024 + Math.round(uv[0]) - 14, (Math.round(uv[1]) + y) * 1024 + Math.round(uv[0]) + 14)
    }
    expect(code(im)).toBe('marks-hidden')
  })
  it('a pitch that does not suit the lens', () => {
    const tiny = plateSchema.parse({ ...PLATE, pitch: 4.4, diameter: 2.1, largeDiameter: 3.1 })
    expect(code(image({ plates: [{ plate: tiny, pose: posed(420, 0, 0, 0, 0, 0, tiny) }] }), tiny)).toBe('dots-too-small')
  })
})

describe('certificate files', () => {
  const text = JSON.stringify(PLATE)
  const refused = (t: string) => {
    try {
      readPlateFile(t, 'p.json')
    } catch (e) {
      return e as { code: string; message: string; where: string }
    }
    throw new Error('was taken')
  }
  it('are read back as written', () => expect(readPlateFile(text)).toEqual(PLATE))
  it('NaN', () =>
    expect(refused(text.replace('"pitch":12', '"pitch":NaN'))).toMatchObject({
      code: 'bad-certificate',
      message: 'The certificate says NaN where a number belongs.',
    }))
  it('no JSON', () => expect(refused('pitch = 12').message).toBe('The file is no valid JSON.'))
  it('large dots that do not tell which way up', () => expect(refused(JSON.stringify({ ...PLATE, large: [[9, 6]] })).message).toMatch(/look the same/))
  it('measured places that are too few', () => expect(refused(JSON.stringify({ ...PLATE, measured: [[0, 0, 0]] })).where).toBe('p.json, measured'))
  it('grow with warmth', () => {
    const warm = platePoints(PLATE, 30)
    expect(warm[3 * 18]).toBeCloseTo(18 * 12 * (1 + 8.7e-5), 9)
  })
})
