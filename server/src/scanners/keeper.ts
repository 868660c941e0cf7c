import { openLink, type Link } from '@oak-gauge/scanners/client.ts'
import type { LinkStatus, Problem, ScannerState } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { ThreadPool } from '@oak-gauge/threads'
import { CalibrationRow, NoteRow, ScannerRow } from '../db/scannermodels.ts'
import type { Bus } from '../events.ts'
import { log } from '../log.ts'
import { toProblem } from '../problem.ts'
import type { Session } from '../sessions/session.ts'
import { scannerAddress } from './address.ts'
import { startStandIn, type RunningStandIn } from './standins.ts'

/** One scanner as this server sees it now; what lasts is in the database. */
export interface Connection {
  status: LinkStatus
  link?: Link | undefined
  problem: Problem | null
  state: ScannerState | null
  /** minutes of its own clock, °C */
  minutes: number[]
  celsius: number[]
  clock: number | null
  run?: Session | undefined
}

interface Entry extends Connection {
  id: string
  wanted: boolean
  standIn?: RunningStandIn | undefined
  timer?: NodeJS.Timeout | undefined
  told: { celsius: number; warm: boolean; at: number }
}

export interface ScannerKeeper {
  pool: ThreadPool
  bus: Bus
  of(id: string): Connection
  /** Throws 'not-connected'. */
  link(id: string): Link
  /** Connects a scanner, or ends its connection (and the process of a stand-in); lasts over a restart. */
  setOn(id: string, on: boolean): Promise<void>
  /** Connects all that are to be connected; call again after scanners were added. */
  refresh(): Promise<void>
  changed(id: string): void
  /** An exposure or a pattern was set: shown at once, and not only with the next word from the scanner. */
  lit(id: string, light: { exposure?: number; pattern?: string }): void
  /** What goes on is stored to its last frame, then all links end. */
  stop(): Promise<void>
}

const RETRY = 1500
/** readings kept of a warm-up, and °C between them: enough for a curve */
const READINGS = 400
const STEP = 0.04

/**
 * Keeps the links to all scanners that are switched on: starts stand-ins, connects, connects again after a loss, hands frames
 * to whatever run is going on, and gives each scanner the calibration that is in use.
 */
export function keepScanners(bus: Bus, pool: ThreadPool): ScannerKeeper {
  const entries = new Map<string, Entry>()
  let stopped = false
  const entry = (id: string): Entry => {
    let e = entries.get(id)
    if (!e) {
      e = { id, status: 'off', problem: null, state: null, minutes: [], celsius: [], clock: null, wanted: false, told: { celsius: NaN, warm: false, at: 0 } }
      entries.set(id, e)
    }
    return e
  }
  const changed = (id: string) => void bus.emit({ type: 'scanner', scanner: id })

  const heard = (e: Entry, s: ScannerState) => {
    if (e.state && s.time < e.state.time) e.minutes = e.celsius = []
    e.state = s
    const minute = s.time / 60_000
    const last = e.celsius[e.celsius.length - 1]
    if (last === undefined || Math.abs(last - s.celsius) >= STEP || minute - e.minutes[e.minutes.length - 1] > 1) {
      e.minutes = [...e.minutes, minute].slice(-READINGS)
      e.celsius = [...e.celsius, s.celsius].slice(-READINGS)
    }
    const { told } = e
    if (s.warm !== told.warm || (Math.abs(s.celsius - told.celsius) >= 0.1 && Date.now() - told.at > 2000) || Number.isNaN(told.celsius)) {
      e.told = { celsius: s.celsius, warm: s.warm, at: Date.now() }
      changed(e.id)
    }
  }

  const lost = (e: Entry, problem: Problem) => {
    e.link = undefined
    e.state = null
    e.status = e.wanted ? 'lost' : 'off'
    e.problem = e.wanted ? problem : null
    e.run?.lost()
    changed(e.id)
    if (e.wanted && !stopped) e.timer = setTimeout(() => void connect(e), RETRY)
  }

  const connect = async (e: Entry): Promise<void> => {
    if (stopped || !e.wanted || e.link) return
    e.status = e.status === 'lost' ? 'lost' : 'connecting'
    try {
      const row = await ScannerRow.findByPk(e.id)
      if (!row) return
      // asked each time: what may be asked may have changed since it was added
      let address = row.standIn ? '' : scannerAddress(row.address ?? '')
      if (row.standIn) {
        e.standIn ??= startStandIn(
          row.standIn,
          (s) => void ScannerRow.update({ standIn: s }, { where: { id: e.id } }),
          () => {
            e.standIn = undefined
          },
        )
        address = `ws://127.0.0.1:${await e.standIn.port}`
      }
      const link = await openLink(address, {
        state: (s) => heard(e, s),
        event: (ev) => {
          if (ev.event === 'shock') void shock(e.id)
          else e.run?.button()
        },
        frame: (f) => e.run?.frame(f),
        lost: (why) => lost(e, toProblem(why)),
      })
      if (!e.wanted) return link.close()
      if (link.hello.serial !== row.serial && !row.standIn) {
        link.close()
        throw new OakError('other-scanner', `At this address now answers ${link.hello.name}, serial ${link.hello.serial}.`, {
          remedy: 'Add it as a scanner of its own, or correct the address.',
        })
      }
      e.link = link
      e.clock = link.hello.standIn?.clock ?? null
      const { spec, name, model } = link.hello
      await row.update({ spec, name, model })
      const inUse = row.calibrationId ? await CalibrationRow.findByPk(row.calibrationId, { attributes: ['id', 'result'] }) : null
      if (inUse?.result && link.hello.calibration.id !== inUse.id)
        await link.order({ type: 'use-calibration', calibration: { id: inUse.id, stereo: inUse.result.stereo } })
      e.status = 'connected'
      e.problem = null
      e.run?.found()
      changed(e.id)
    } catch (error) {
      log.debug({ err: error, scanner: e.id }, 'not connected')
      lost(e, toProblem(error))
    }
  }

  const shock = async (id: string) => {
    await ScannerRow.update({ shockAt: new Date() }, { where: { id } })
    await NoteRow.create({ scannerId: id, text: 'The scanner reported a knock.' })
    changed(id)
  }

  const off = (e: Entry) => {
    e.wanted = false
    clearTimeout(e.timer)
    e.link?.close()
    e.link = undefined
    e.standIn?.stop()
    e.standIn = undefined
    e.state = null
    e.minutes = []
    e.celsius = []
    e.status = 'off'
    e.problem = null
    e.run?.lost()
  }

  return {
    pool,
    bus,
    of: entry,
    changed,
    lit(id, light) {
      const e = entry(id)
      if (e.state) e.state = { ...e.state, ...light }
      changed(id)
    },
    link(id) {
      const { link, problem } = entry(id)
      if (!link) throw new OakError('not-connected', problem?.detail ?? 'The scanner is not connected.', { remedy: problem?.remedy ?? 'Switch it on.' })
      return link
    },
    async setOn(id, on) {
      await ScannerRow.update({ switchedOn: on }, { where: { id } })
      const e = entry(id)
      if (on && !e.wanted) {
        e.wanted = true
        e.status = 'connecting'
        void connect(e)
      } else if (!on) off(e)
      changed(id)
    },
    async refresh() {
      for (const row of await ScannerRow.findAll({ where: { switchedOn: true }, attributes: ['id'] })) {
        const e = entry(row.id)
        if (e.wanted) continue
        e.wanted = true
        void connect(e)
      }
    },
    async stop() {
      stopped = true
      await Promise.all([...entries.values()].map((e) => e.run?.settle() ?? Promise.resolve()))
      for (const e of entries.values()) off(e)
    },
  }
}
