import { benchThing, type BenchThing, type FromScanner, type Hello, type ImageHead, type PointsHead, type ToScanner } from '@oak-gauge/contract'
import { fromRotationVector, identity, invertRigid, multiply, transformPoint, translation, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { barLength, ballBarSchema } from '@oak-gauge/core/calibrate/ballbar.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import { plateSchema, type Plate } from '@oak-gauge/core/calibrate/plate.ts'
import { scannerCelsius, trueOptics } from '@oak-gauge/core/scanner/optics.ts'
import { plateImage, rayTable } from '@oak-gauge/core/scanner/plateimage.ts'
import { MATERIALS, type Thing } from '@oak-gauge/core/scanner/scene.ts'
import { seeMarkers } from '@oak-gauge/core/scanner/seemarkers.ts'
import { takeShot, type Shot, type ShotOptions } from '@oak-gauge/core/scanner/shot.ts'
import { bodyToLeft } from '@oak-gauge/core/scanner/spec.ts'
import { tableToBody } from '@oak-gauge/core/scanner/turntable.ts'
import { makeMesh } from '@oak-gauge/core/shape/mesh.ts'
import { buildBvh } from '@oak-gauge/core/space/bvh.ts'
import type { Clock } from './clock.ts'
import { FLOW, type Device } from './devices.ts'

/** What outlives a stand-in that is switched off. */
export interface Lasting {
  /** times it was dropped */
  drops: number
  /** day it was made, ms since 1970 */
  made: number
  calibration: { id: string; stereo: Stereo } | null
}

export type Send = (m: FromScanner) => void
export type SendFrame = (head: ImageHead | PointsHead, arrays: ArrayBufferView[]) => void

/** A refusal: code and what it means. */
export class Refusal extends Error {
  readonly code: string
  constructor(code: string, message: string) {
    super(message)
    this.code = code
  }
}

const ROOM = 20.6
/** of a picture of a part, with a pause after each */
const PARTS = 8
/** ms that a frame is exposed for, at exposure 1 */
const EXPOSED = 2
const PATTERNS: Record<string, 'area' | 'cross' | 'line'> = { area: 'area', cross: 'cross', line: 'line' }
/** rounding of the temperature at which the optics are computed anew, K: a tenth moves lengths by a micrometre */
const OPTICS_STEP = 0.1

/** Where a plate sits on Hazel's table: turned on its side, leaning back a little, 70 mm out; the head looks down by 30 degrees. */
const TABLE_LEAN = (15 * Math.PI) / 180
const HEAD_DOWN = (-30 * Math.PI) / 180
/** of a turntable: how far its axis is from where it is believed to be, mm, and how it tilts, rad */
const WOBBLE = { off: 0.025, tilt: 5e-5 }

/**
 * A stand-in scanner without its connection: true optics that nobody outside sees, images and points from them, warmth, and drops. The
 * network part is in serve.ts.
 */
export class StandIn {
  readonly device: Device
  readonly lasting: Lasting
  private readonly clock: Clock
  private mode: Extract<ToScanner, { type: 'mode' }>['mode'] = 'idle'
  private exposure = 1
  private pattern: string
  private turn = 0
  private hand: Mat4 = identity()
  /** of the last frame while recording */
  private before: { pose: Mat4; time: number } | undefined
  private things: BenchThing[] = []
  private solids: Thing[] = []
  private sequence = 0
  private optics: { key: string; stereo: Stereo; rays: [Float64Array, Float64Array] } | undefined

  constructor(device: Device, lasting: Lasting, clock: Clock) {
    this.device = device
    this.lasting = lasting
    this.clock = clock
    this.pattern = device.spec.patterns[0]
  }

  hello(): Hello {
    const { name, model, serial, spec } = this.device
    return { type: 'hello', protocol: 1, name, model, serial, spec, calibration: this.believed(), standIn: { clock: this.clock.factor } }
  }

  state(): FromScanner {
    const { rise, tau } = this.device
    const time = this.clock.now()
    return {
      type: 'state',
      time,
      celsius: this.celsius(),
      room: ROOM,
      warm: rise * Math.exp(-time / 1000 / tau) < 0.4,
      mode: this.mode,
      exposure: this.exposure,
      pattern: this.pattern,
      ...(this.device.spec.turntable ? { turn: this.turn } : {}),
    }
  }

  now(): number {
    return this.clock.now()
  }

  get streaming(): boolean {
    return this.mode === 'images'
  }
  /** markers are looked at, many times a second */
  get aiming(): boolean {
    return this.mode === 'aim'
  }
  /** and what stands there is measured */
  get recording(): boolean {
    return this.mode === 'record'
  }

  /** Carries out one command; frames it makes go out before it returns. Throws Refusal. */
  obey(m: Exclude<ToScanner, { type: 'welcome' | 'credit' }>, frame: SendFrame): { event?: 'shock' | 'button' } {
    switch (m.type) {
      case 'set':
        if (m.pattern !== undefined && !this.device.spec.patterns.includes(m.pattern)) throw new Refusal('no-such-pattern', `There is no pattern ${m.pattern}.`)
        this.exposure = m.exposure ?? this.exposure
        this.pattern = m.pattern ?? this.pattern
        return {}
      case 'mode':
        if ((m.mode === 'aim' && !this.things.some((t) => t.kind === 'markers')) || (m.mode === 'record' && !this.solids.length))
          throw new Refusal('no-part', 'Nothing to scan stands before this stand-in.')
        if (m.mode === 'record' && !this.device.spec.moving) throw new Refusal('stands-still', 'This scanner measures in shots, standing still.')
        this.mode = m.mode
        this.before = undefined
        return {}
      case 'use-calibration':
        this.lasting.calibration = m.calibration
        return {}
      case 'image':
        this.images(frame)
        return {}
      case 'shot':
        for (let k = 0; k < m.frames; k++) for (const _ of this.shotFrame(k, m.frames, frame));
        return {}
      case 'turn':
        if (!this.device.spec.turntable) throw new Refusal('no-turntable', 'This scanner has no turntable.')
        this.turn = m.degrees
        return {}
      case 'bench': {
        const r = m.things.map((t) => benchThing.safeParse(t))
        const wrong = r.find((x) => !x.success)
        if (wrong) throw new Refusal('bad-bench', wrong.error?.issues[0]?.message ?? 'not understood')
        this.things = r.flatMap((x) => (x.success ? [x.data] : []))
        this.solids = this.things.flatMap((t) => (t.kind === 'solid' ? [solidThing(t)] : []))
        return {}
      }
      case 'hand':
        this.hand = Float64Array.from(m.pose)
        return {}
      case 'drop':
        this.lasting.drops++
        return { event: 'shock' }
      case 'press':
        return { event: 'button' }
    }
  }

  /** One pair of images of the plates before it. */
  images(frame: SendFrame): void {
    const { stereo, rays } = this.true()
    const plates = this.things.flatMap((t) => {
      if (t.kind !== 'plate' && t.kind !== 'table-plate') return []
      const plate = plateSchema.parse(t.plate)
      const inBody = t.kind === 'plate' ? multiply(this.handInverse(), t.pose) : this.onTable(plate)
      return [{ plate, pose: multiply(bodyToLeft(stereo), inBody) }]
    })
    const time = this.clock.now()
    const sequence = ++this.sequence
    ;[stereo.left, stereo.right].forEach((camera, k) => {
      const side = k === 0 ? ('left' as const) : ('right' as const)
      const image = plateImage(camera, rays[k], {
        plates: plates.map((p) => ({ plate: p.plate, pose: k === 0 ? p.pose : multiply(stereo.pose, p.pose), celsius: ROOM })),
        exposure: 185 * this.exposure,
        focus: this.device.spec.range.ideal,
        seed: 2 * sequence + k,
      })
      frame({ kind: 'image', sequence, time, side, width: image.width, height: image.height }, [image.data])
    })
  }

  /** One frame of markers as it sees them now. */
  markers(frame: SendFrame): void {
    const sequence = ++this.sequence
    const seen = this.seenMarkers(this.leftToWorld(), sequence)
    frame({ kind: 'points', sequence, time: this.clock.now(), count: 0, intensity: false, colour: false, markers: seen.length / 4 }, [
      new Float32Array(0),
      ...(seen.length ? [seen] : []),
    ])
  }

  /** One frame of points and markers while the hand moves: what it moved since the last one smears this one by its exposure. */
  record(frame: SendFrame): void {
    const { spec } = this.device
    const sequence = ++this.sequence
    const time = this.clock.now()
    const pose = this.leftToWorld()
    const share = this.before ? (EXPOSED * this.exposure) / Math.max(FLOW, (time - this.before.time) / this.clock.factor) : 0
    const motion = this.before && pose.slice(0, 12).map((v, i) => share * (v - this.before!.pose[i]))
    this.before = { pose, time }
    const shot = this.light({
      things: this.solids,
      pose,
      ...(motion ? { motion } : {}),
      stride: spec.moving?.stride,
      along: spec.moving?.along,
      // a single line stands still in the scanner, many lie between one another
      phase: PATTERNS[this.pattern] === 'line' ? 0.5 : seeded(31 * sequence + this.device.seed).next(),
      sequence,
    })
    this.sendPoints(frame, sequence, shot, pose, spec.arm ? this.encoded(this.hand, sequence) : undefined)
  }

  /** What its light shows. */
  private light({
    things,
    sequence,
    ...o
  }: Pick<ShotOptions, 'pose' | 'motion' | 'stride' | 'along' | 'phase' | 'part'> & { things: Thing[]; sequence: number }): Shot {
    const { spec, noise, seed } = this.device
    return takeShot(spec, this.true().stereo, this.believed().stereo, things, {
      ...o,
      pattern: PATTERNS[this.pattern],
      exposure: this.exposure,
      noise,
      seed: 7919 * sequence + seed,
      colour: spec.colour,
    })
  }
  /** A frame of points, the markers among them, and where it says that it was. */
  private sendPoints(frame: SendFrame, sequence: number, shot: Shot, pose: ArrayLike<number>, said: number[] | undefined): void {
    const seen = this.seenMarkers(pose, sequence)
    const { rayGap, dark, bright, xyz, intensity, colours } = shot
    const head = {
      kind: 'points' as const,
      sequence,
      time: this.clock.now(),
      count: xyz.length / 3,
      intensity: true,
      colour: !!colours,
      markers: seen.length / 4,
    }
    frame({ ...head, rayGap, dark, bright, ...(said ? { pose: said } : {}) }, [xyz, intensity, ...(colours ? [colours] : []), ...(seen.length ? [seen] : [])])
  }

  /** Where its left camera is, in what stands before it. */
  private leftToWorld(): Mat4 {
    const world = this.device.spec.turntable ? invertRigid(this.sceneOnTable(this.wobble())) : this.hand
    return multiply(world, bodyInverse(this.true().stereo))
  }

  /** x, y, z and diameter of each marker that it sees. */
  private seenMarkers(pose: ArrayLike<number>, sequence: number): Float32Array {
    const { spec, noise, seed } = this.device
    const list: number[] = []
    for (const t of this.things) {
      if (t.kind !== 'markers') continue
      const seen = seeMarkers(spec, this.true().stereo, this.believed().stereo, t, this.solids, { pose, noise, seed: 104729 * sequence + seed })
      for (let i = 0; i < seen.diameters.length; i++) list.push(seen.xyz[3 * i], seen.xyz[3 * i + 1], seen.xyz[3 * i + 2], seen.diameters[i])
    }
    return Float32Array.from(list)
  }

  /** Frame k of a shot: of the part on its table, or of the bar before it. Pauses several times: a whole picture of a part takes long enough to pass for silence. */
  *shotFrame(k: number, of: number, frame: SendFrame): Generator<void> {
    const { spec, stride } = this.device
    const sequence = ++this.sequence
    const phase = spec.arm ? 0.5 : (k + 0.5) / of
    if (spec.turntable && this.solids.length) {
      const pose = this.leftToWorld()
      const parts: Shot[] = []
      for (let number = 0; number < PARTS; number++) {
        parts.push(this.light({ things: this.solids, pose, stride, phase, sequence, part: { of: PARTS, number } }))
        yield
      }
      const said = multiply(invertRigid(this.sceneOnTable()), bodyInverse(this.believed().stereo))
      return this.sendPoints(frame, sequence, joined(parts), pose, Array.from(said))
    }
    const things = this.things.flatMap((t) => (t.kind === 'bar' ? barThings(t, this.handInverse()) : []))
    // the world of these things is the body; an arm carries the body along
    const body = spec.arm ? this.armSweep(things, k, of) : identity()
    const pose = multiply(body, bodyInverse(this.true().stereo))
    const shot = this.light({ things, pose, stride, phase, sequence })
    this.sendPoints(frame, sequence, shot, pose, spec.arm ? this.encoded(body, sequence) : undefined)
  }

  /** An arm leads the line over one sphere after the other, from the ideal distance. */
  private armSweep(things: Thing[], k: number, of: number): Mat4 {
    const spheres = things.filter((t) => t.kind === 'sphere')
    if (!spheres.length) return identity()
    const each = of / spheres.length
    const s = spheres[Math.min(spheres.length - 1, Math.floor(k / each))]
    const share = ((k % each) + 0.5) / each
    return translation(s.centre[0] + (share - 0.5) * 2.1 * s.radius, s.centre[1], s.centre[2] - this.device.spec.range.ideal)
  }

  /** What the arm's encoders make of where its body is: some micrometres and arc seconds off; the left camera is where it is believed to be. */
  private encoded(body: Mat4, sequence: number): number[] {
    const r = seeded(sequence * 31 + this.device.seed)
    const out = multiply(multiply(body, bodyInverse(this.believed().stereo)), fromRotationVector(1e-5 * r.gauss(), 1e-5 * r.gauss(), 1e-5 * r.gauss()))
    for (const i of [3, 7, 11]) out[i] += 0.006 * r.gauss()
    return Array.from(out)
  }

  private celsius(): number {
    return scannerCelsius(ROOM, this.device.rise, this.device.tau, this.clock.now() / 1000)
  }

  private believed() {
    // as it left the maker: calibrated once, cold, on the day it was made
    return this.lasting.calibration ?? { id: '', stereo: trueOptics(this.device.spec.design, this.device.seed, { celsius: ROOM, days: 0, drops: 0 }) }
  }

  private true() {
    const celsius = Math.round(this.celsius() / OPTICS_STEP) * OPTICS_STEP
    const days = Math.max(0, Math.floor(((Date.now() - this.lasting.made) / 86_400_000) * 4) / 4)
    const key = `${celsius.toFixed(2)} ${days} ${this.lasting.drops}`
    if (this.optics?.key !== key) {
      const stereo = trueOptics(this.device.spec.design, this.device.seed, { celsius, days, drops: this.lasting.drops })
      this.optics = { key, stereo, rays: [rayTable(stereo.left), rayTable(stereo.right)] }
    }
    return this.optics
  }

  /** The hand moves the scanner: what stands still moves the other way. */
  private handInverse(): Mat4 {
    return invertRigid(this.hand)
  }

  /**
   * Marked parts stand on the table, z up; the head looks down more steeply on them than on plates, else flat markers would vanish. With growing angle the
   * scanner goes round them counter-clockwise, seen from above.
   */
  private sceneOnTable(off: Mat4 = identity()): Mat4 {
    return multiply(tableToBody(this.device.spec.range.ideal, this.turn), off)
  }

  /** What the table does beside turning, and where its axis is not quite where it is believed to be: unknown to the device. */
  private wobble(): Mat4 {
    const a = (this.turn * Math.PI) / 180
    const { off, tilt } = WOBBLE
    // an axis that stands still beside where it is believed to be goes round on the table
    return fromRotationVector(tilt * Math.cos(a), tilt * Math.sin(2 * a), 0, off * Math.cos(a), -off * Math.sin(a), 0.5 * off * Math.sin(3 * a))
  }

  private onTable(plate: Plate): Mat4 {
    const { ideal } = this.device.spec.range
    const table = multiply(translation(0, 0, ideal), fromRotationVector(HEAD_DOWN, 0, 0))
    const holder = multiply(translation(39.5, 5, -57.8), multiply(fromRotationVector(TABLE_LEAN, 0, 0), fromRotationVector(0, 0, Math.PI / 2)))
    const middle = translation((-(plate.columns - 1) * plate.pitch) / 2, (-(plate.rows - 1) * plate.pitch) / 2, 0)
    return multiply(table, multiply(fromRotationVector(0, (this.turn * Math.PI) / 180, 0), multiply(holder, middle)))
  }
}

const bodyInverse = (s: Stereo) => invertRigid(bodyToLeft(s))

function solidThing(t: Extract<BenchThing, { kind: 'solid' }>): Thing {
  const mesh = makeMesh({ vertices: Float32Array.from(t.vertices), triangles: Uint32Array.from(t.triangles) })
  return { kind: 'mesh', mesh, bvh: buildBvh(mesh, 'median'), pose: identity(), material: MATERIALS[t.material], ...(t.print ? { print: t.print } : {}) }
}

/** One shot that was taken in parts. */
function joined(parts: Shot[]): Shot {
  const xyz = new Float32Array(parts.reduce((n, p) => n + p.xyz.length, 0))
  const intensity = new Uint8Array(xyz.length / 3)
  const colours = parts[0]?.colours && new Uint8Array(xyz.length)
  let at = 0
  for (const p of parts) {
    xyz.set(p.xyz, at)
    intensity.set(p.intensity, at / 3)
    if (p.colours) colours?.set(p.colours, at)
    at += p.xyz.length
  }
  const mean = (of: (p: Shot) => number) => parts.reduce((n, p) => n + of(p) * p.intensity.length, 0) / Math.max(1, intensity.length)
  return { xyz, intensity, ...(colours ? { colours } : {}), rayGap: mean((p) => p.rayGap), dark: mean((p) => p.dark), bright: mean((p) => p.bright) }
}

/** Spheres and rod of a ball bar; its pose maps the bar (along x, origin in the middle) to the body. */
function barThings(t: Extract<BenchThing, { kind: 'bar' }>, hand: Mat4): Thing[] {
  const bar = ballBarSchema.parse(t.bar)
  const half = barLength(bar, ROOM) / 2
  const pose = multiply(hand, t.pose)
  const ends = [-half, half].map((x) => transformPoint(pose, x, 0, 0))
  return [
    ...ends.map((centre, k): Thing => ({ kind: 'sphere', centre, radius: bar.spheres[k].diameter / 2, material: MATERIALS.ceramic })),
    { kind: 'rod', from: ends[0], to: ends[1], radius: 7, material: MATERIALS.dark },
  ]
}
