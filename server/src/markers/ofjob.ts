import type { CalibrationResult } from '@oak-gauge/core/calibrate/calibration.ts'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { turned } from '@oak-gauge/core/markers/levelled.ts'
import type { Markers } from '@oak-gauge/core/markers/markers.ts'
import type { Item } from '@oak-gauge/core/operations/operation.ts'
import { transformMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { loadArray } from '../blobs.ts'
import type { Database } from '../db/connect.ts'
import { ItemRow } from '../db/models.ts'
import { CalibrationRow, VerificationRow, type ScannerRow } from '../db/scannermodels.ts'
import type { Ledger } from '../ledger/state.ts'
import { unpackItem, type Arrays } from '../worker/pack.ts'
import { stageInput, type StageInput } from './stage.ts'

/** What a scanner is to be told of a job: its maps, its plan, what stands before a stand-in; and the job of the scanner: what it computes with. */

export async function load(db: Database, row: ItemRow): Promise<Item> {
  const arrays: Arrays = {}
  for (const [name, ref] of Object.entries(row.arrays)) arrays[name] = await loadArray(db.pool, ref)
  return unpackItem(row, arrays)
}

/** A map to go on from, in its own axes. The new one takes its place when it is of the same setup. */
export async function knownMap(db: Database, l: Ledger, slot: string, setup: string): Promise<{ markers: Markers; slot: string; replaces: boolean }> {
  const row = l.tray.get(slot)
  if (row?.kind !== 'markers') throw new OakError('not-on-tray', 'That map is not on the tray any more.', { remedy: 'Choose again.' })
  const item = (await load(db, row)) as Item<Markers>
  return { markers: item.data, slot, replaces: l.slots.get(slot)?.setupId === setup }
}

export async function inUse(scanner: ScannerRow): Promise<CalibrationResult | null> {
  const row = scanner.calibrationId ? await CalibrationRow.findByPk(scanner.calibrationId, { attributes: ['result'] }) : null
  return row?.result ?? null
}

/**
 * Relative standard uncertainty of lengths: of the base line and the focal length by the calibration, and what the ball bar showed, as a
 * rectangular distribution (GUM, JCGM 100, 4.3.7).
 */
export async function scaleUncertainty(scanner: ScannerRow): Promise<number> {
  const c = await inUse(scanner)
  if (!c) return 0
  const own = Math.hypot(c.uncertainty.baseline / c.baseline, (c.uncertainty.left['fx'] ?? 0) / c.stereo.left.fx)
  const v = await VerificationRow.findOne({ where: { scannerId: scanner.id, calibrationId: scanner.calibrationId }, order: [['at', 'DESC']] })
  const row = v?.result.rows.find((x) => x.name === 'distance')
  return row && v ? Math.hypot(own, Math.abs(row.value) / v.bar.distance / Math.sqrt(3)) : own
}

const nominalOf = (l: Ledger): ItemRow | undefined => [...l.tray.values()].findLast((i) => l.slots.get(i.slotId ?? '')?.role === 'nominal')

/** The part of a job as the plan was made on it, else its nominal, in job coordinates. */
export async function partOf(db: Database, l: Ledger): Promise<Mesh | null> {
  const step = l.path.findLast((s) => s.operation === 'plan-markers')
  const slot = step?.inputs['shape']?.[0] ?? step?.slots['shape']?.[0]
  const row = slot ? l.tray.get(slot) : nominalOf(l)
  if (row?.kind !== 'mesh') return null
  const item = (await load(db, row)) as Item<Mesh>
  return transformMesh(item.data, item.pose)
}

export async function planOf(db: Database, l: Ledger): Promise<{ markers: Markers; slot: string } | null> {
  const row = [...l.tray.values()].findLast((i) => l.slots.get(i.slotId ?? '')?.role === 'marker-plan')
  if (!row) return null
  const item = (await load(db, row)) as Item<Markers>
  return { markers: turned(item.data, item.pose), slot: row.slotId ?? '' }
}

export async function stageOf(db: Database, l: Ledger, place: number): Promise<StageInput> {
  const step = l.path.findLast((s) => s.operation === 'plan-markers')
  return stageInput(step?.params ?? {}, (await planOf(db, l))?.markers ?? null, await partOf(db, l), place)
}
