import { deflateRawSync } from 'node:zlib'
import { parentPort, workerData } from 'node:worker_threads'
import { Cancelled, OakError } from '@oak-gauge/core/base/errors.ts'
import { encodeFrame, roundFrame, withBrightness } from '@oak-gauge/core/capture/framecode.ts'
import { isRigid, orthonormalise, type Mat4 } from '@oak-gauge/core/base/mat4.ts'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { nextViews } from '@oak-gauge/core/capture/nextviews.ts'
import { inReach } from '@oak-gauge/core/capture/reach.ts'
import { tableViews } from '@oak-gauge/core/capture/tableviews.ts'
import { liveTracker, type LiveFrame, type LiveState } from '@oak-gauge/core/capture/livetracker.ts'
import { FATES } from '@oak-gauge/core/capture/timeline.ts'
import { frameOfRecord, recordOf } from '@oak-gauge/core/formats/recording.ts'
import { stereoSight } from '@oak-gauge/core/markers/sight.ts'
import { SeenFloor } from './seenfloor.ts'
import type { FromTracker, Grown, RaisedFloor, ToTracker, TrackStart } from './trackmessages.ts'

/*
 * A thread that makes records of frames, at once, and tracks them, as fast as it can: what comes faster is kept all the same, and is placed when the recording is
 * solved.
 */

/** frames that wait here before the oldest are passed over */
const BEHIND = 3
/** ms between two looks at how the surface has grown, and between those at all of it */
const GROWN = 200
const ALL = 4000

const port = parentPort
if (!port) throw new Error('this is a thread')
const { stereo, map, range, reach, floor: asked, ...start } = workerData as TrackStart
const tracker = liveTracker({ ...start, ...(map ? { markers: { map, sight: stereoSight(stereo) } } : {}) })
const floor = new SeenFloor(asked, map)
const say = (m: FromTracker, transfer: ArrayBuffer[] = []) => port.postMessage(m, transfer)

/** as records: decoded, those of a long recording that come again would not fit */
const waiting: ({ record: Uint8Array; again: boolean } | Extract<ToTracker, { type: 'cut' }>)[] = []
let late = 0
let working = false
let replays = false
let { version } = start
let sent = 0
let grownAt = 0
let allAt = 0

port.on('message', (m: ToTracker) => {
  looking.aborted = true
  if (m.type === 'look') return look((looking = { aborted: false }), m.table)
  if (m.type === 'replay') return void (replays = m.on)
  if (m.type === 'floor') return beneath(m.floor)
  clearTimeout(quiet)
  if (m.type === 'cut') waiting.push(m)
  else take(m)
  work()
})

function take(m: Extract<ToTracker, { type: 'frame' | 'again' }>): void {
  try {
    const record = m.type === 'frame' ? made(m) : m.record
    if (m.type === 'frame') say({ type: 'record', record })
    if (m.type === 'frame' && replays) return
    waiting.push({ record, again: m.type === 'again' })
  } catch (e) {
    if (!(e instanceof OakError)) throw e
    say({ type: 'refused', detail: e.message, remedy: e.remedy ?? '' })
  }
}

function made(m: Extract<ToTracker, { type: 'frame' }>): Uint8Array {
  const step = start.noise / 4
  const points = withBrightness({
    xyz: roundFrame(m.xyz, step),
    ...(m.brightness ? { intensity: m.brightness } : {}),
    ...(m.rgb ? { colours: m.rgb } : {}),
  })
  if (m.at && !isRigid(m.at))
    throw new OakError('bad-frame', `Where the scanner says it was at ${Math.round(m.time)} ms is no place: its turn is none.`, {
      remedy: 'A pose is 16 numbers, row after row, and neither stretches nor mirrors: see docs/scanner-link.md.',
    })
  const at = m.at && orthonormalise(Float64Array.from(m.at))
  return recordOf(m.time, m.markers, deflateRawSync(encodeFrame(points, step), { level: 3 }), at)
}

function work(): void {
  if (working) return
  if (!waiting.length) return rest()
  working = true
  // at a turn of the loop: what came meanwhile is recorded first
  setImmediate(() => {
    while (waiting.length > BEHIND && 'again' in waiting[0] && !waiting[0].again) {
      waiting.shift()
      late++
    }
    const next = waiting.shift()
    if (next && 'again' in next) {
      track(next.record, next.again)
      if (next.again) say({ type: 'again' })
    } else if (next) cut(next)
    working = false
    work()
  })
}

/** ms without a frame */
const QUIET = 200
let quiet: NodeJS.Timeout | undefined
/** frames that wait may still find their place before the next one comes */
let resting = false
function rest(): void {
  resting = true
  quiet = setTimeout(tryWaiting, QUIET)
}
/** While it is held, frames that still wait are tried, one at a time. */
function tryWaiting(): void {
  const s = tracker.tryWaiting()
  resting = s !== undefined
  if (!s) return
  tell({ ...s, laid }, 0, false)
  quiet = setTimeout(tryWaiting)
}

// what is tracked now and what is read again later are the same numbers
function frameOf(record: Uint8Array): LiveFrame {
  const { time, markers, points, at } = frameOfRecord(record.subarray(4))
  const all = points()
  const { xyz, intensity: levels } = reach ? inReach(all, reach) : all
  return { time, markers, xyz, ...(levels ? { levels } : {}), ...(at ? { at } : {}) }
}
function* framesOf(list: Uint8Array[]): Generator<LiveFrame> {
  for (const r of list) yield frameOf(r)
}

/** newest frame that was tracked, ms, and how far from it what it saw is, mm */
let time = 0
let distance: number | null = null
let laid: LiveState['laid']
/** where the scanner said last that it was, and the newest frame that has a place and said it */
let said: Mat4 | undefined
let known: { pose: Mat4; at: Mat4 } | undefined
/** TOLD numbers a frame, one behind the other */
let fates: number[] = []
let anew = false

function track(record: Uint8Array, again: boolean): void {
  const frame = frameOf(record)
  const began = performance.now()
  const s = tracker.feed(frame)
  time = frame.time
  laid = s.laid
  distance = middle(frame.xyz)
  said = frame.at
  if (frame.at && s.state === 'steady') known = { pose: s.pose, at: frame.at }
  const fate = s.state === 'weak' ? 'weak' : s.state === 'steady' ? 'placed' : 'lost'
  tell(s, performance.now() - began, again && waiting.length > 0, [time, FATES.indexOf(fate), sigmaOf(s) ?? NaN, tracker.surface().cubes()])
}

function cut(m: Extract<ToTracker, { type: 'cut' }>): void {
  tell(tracker.takeIn(framesOf(m.in)), 0, true)
  const s = tracker.leaveOut(framesOf(m.out))
  // all that is there has changed
  grownAt = allAt = 0
  tell(s, 0, waiting.length > 0)
}

/** more: another one comes at once, and what is to be said of this one is said with that. */
function tell(s: LiveState, took: number, more: boolean, own: number[] = []): void {
  if (s.anew) {
    version++
    floor.beginAnew()
    sent = 0
    fates = []
    anew = true
  }
  fates.push(...own)
  for (const e of s.entered) fates.push(e.time, FATES.indexOf('placed'), NaN, NaN)
  if (more) return
  const grown = grew()
  const { state, why, pose, contradicts, waiting: quarantine, span } = s
  say(
    {
      type: 'tracked',
      time,
      state,
      why,
      pose,
      contradicts,
      waiting: quarantine,
      span,
      sigma: sigmaOf(s),
      placed: tracker.frames(),
      distance,
      late,
      fates,
      anew,
      took,
      ghost: tracker.ghost() ?? null,
      ...(grown ? { grown } : {}),
    },
    grown ? [grown.cubes.buffer as ArrayBuffer] : [],
  )
  fates = []
  anew = false
}

const sigmaOf = (s: LiveState): number | null => (s.laid ? Math.max(...s.laid.sigmas) : null)

/** mm above what was recorded lowest: a hand and a scanner need room */
const ROOM = 20
/** of the angle that its narrower side sees, how much is used */
const INNER = 0.9
/** shots of a scanner that stands, and single lines, show a place well where they show it */
const ONCE = 1
/** Another floor: all is shown anew, and what is missing is looked for by whoever asked. */
function beneath(asked: RaisedFloor | null): void {
  floor.ask(asked)
  grownAt = allAt = 0
  const grown = grew()
  if (grown) say({ type: 'grown', grown }, [grown.cubes.buffer as ArrayBuffer])
}
let looking = { aborted: false }
/** From where it should be seen next; given up as soon as something else comes. */
function look(signal: { aborted: boolean }, table?: { turn: number; taken: number[] }): void {
  // what still waits changes it
  if (waiting.length || working || resting) return void setTimeout(() => !signal.aborted && look(signal, table), 50)
  const surface = tracker.surface()
  const place = new Float32Array(6)
  let lowest = Infinity
  for (let k = 0; k < surface.cubes(); k++) {
    if (!surface.pointsIn(k)) continue
    surface.middleOf(k, place, 0)
    lowest = Math.min(lowest, place[2])
  }
  const { left } = stereo
  const half = Math.atan((INNER * 0.5 * Math.min(left.width, left.height)) / left.fx)
  const stands = table && (said && known ? tableViews(known, said, table.turn, table.taken) : [])
  const how = {
    ...(stands ? { stands } : { reachable: (x: number, y: number, z: number) => (floor.known() ? !floor.isBeneath(x, y, z, ROOM) : z > lowest + ROOM) }),
    ...(stands || start.lines ? { enough: ONCE } : {}),
    counts: (x: number, y: number, z: number) => !floor.isBeneath(x, y, z),
  }
  nextViews(surface, { range, half, ...how }, { ...quietContext, signal }).then(
    (next) =>
      !signal.aborted && say({ type: 'next', turns: next.views.map((v) => stands?.find((s) => s.at === v.at)?.turn ?? 0), known: surface.cubes(), ...next }),
    (e: unknown) => {
      if (!(e instanceof Cancelled)) throw e
    },
  )
}

/** Cubes that are new, now and then all of them, as they have changed since. */
function grew(): Grown | undefined {
  const surface = tracker.surface()
  const now = performance.now()
  const count = surface.cubes()
  const all = now - allAt > ALL
  if (now - grownAt < GROWN || (!all && count === sent)) return undefined
  grownAt = now
  if (all) {
    allAt = now
    sent = 0
  }
  if (all && floor.look(surface)) say({ type: 'floor', ...floor.view() })
  const from = sent
  const cubes = new Float32Array(7 * (count - from))
  for (let k = from; k < count; k++) {
    surface.middleOf(k, cubes, 7 * (k - from))
    const at = 7 * (k - from)
    cubes[at + 6] = floor.isBeneath(cubes[at], cubes[at + 1], cubes[at + 2]) ? 0 : surface.seenIn(k)
  }
  sent = count
  return { version, from, cubes }
}

/** mm along the line of sight */
function middle(xyz: Float32Array): number | null {
  let z = 0
  for (let i = 2; i < xyz.length; i += 3) z += xyz[i]
  return xyz.length ? (3 * z) / xyz.length : null
}
