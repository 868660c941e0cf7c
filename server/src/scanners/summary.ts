import type { RecordedWith, ArtefactSummary, CalibrationSummary, ScannerDetail, ScannerSummary, VerificationSummary } from '@oak-gauge/contract'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import { scannerHealth, warmUpFit, type Health } from '@oak-gauge/core/calibrate/health.ts'
import { certificateEnds } from '@oak-gauge/core/calibrate/plate.ts'
import { ArtefactRow, CalibrationRow, NoteRow, ScannerRow, VerificationRow } from '../db/scannermodels.ts'
import type { Connection, ScannerKeeper } from './keeper.ts'

export async function scannerOr404(id: string): Promise<ScannerRow> {
  const row = await ScannerRow.findByPk(id)
  if (!row) throw new OakError('not-found', 'There is no such scanner.', { remedy: 'Go back to the bench.' })
  return row
}

export const calibrationSummary = (c: CalibrationRow): CalibrationSummary => ({
  id: c.id,
  at: c.at.toISOString(),
  plate: c.plate.name,
  celsius: c.celsius,
  cold: c.cold,
  verdict: c.judgement?.verdict ?? 'no-go',
  rms: c.result?.rms ?? NaN,
  mean: c.result?.mean ?? NaN,
  largest: c.result?.largest ?? NaN,
  baseline: c.result?.baseline ?? NaN,
  poses: c.result?.poses.filter((p) => !p.out).length ?? 0,
  way: c.way,
})

export const verificationSummary = (v: VerificationRow): VerificationSummary => ({
  id: v.id,
  at: v.at.toISOString(),
  calibration: v.calibrationId,
  bar: v.bar.name,
  cold: v.cold,
  verdict: v.result.verdict,
  rows: v.result.rows,
  positions: v.readings.length,
})

/** What is in use and how it was verified since. */
async function inUse(row: ScannerRow) {
  const calibration = row.calibrationId ? await CalibrationRow.findByPk(row.calibrationId, { attributes: { exclude: ['observations'] } }) : null
  const verification = calibration
    ? await VerificationRow.findOne({ where: { scannerId: row.id, calibrationId: calibration.id }, order: [['at', 'DESC']] })
    : null
  return { calibration, verification }
}

export function healthOf(row: ScannerRow, calibration: CalibrationRow | null, verification: VerificationRow | null, room: number | null): Health {
  return scannerHealth({
    now: Date.now(),
    limits: row.spec.limits,
    calibration: calibration && {
      at: calibration.at.getTime(),
      celsius: calibration.celsius,
      verdict: calibration.judgement?.verdict ?? 'no-go',
      cold: calibration.cold,
    },
    verification: verification && { at: verification.at.getTime(), verdict: verification.result.verdict },
    shock: row.shockAt?.getTime() ?? null,
    used: row.usedAt?.getTime() ?? null,
    celsius: room,
  })
}

/** Minutes of its own clock until it is within 0.4 K of where it settles; null while that cannot be told. */
function warmIn(c: Connection): { minutes: number | null; fit: ReturnType<typeof warmUpFit> } {
  const fit = warmUpFit(
    c.minutes.map((m) => m * 60_000),
    c.celsius,
  )
  if (!c.state) return { minutes: null, fit: null }
  if (c.state.warm) return { minutes: 0, fit }
  if (!fit) return { minutes: null, fit }
  return { minutes: Math.max(0, (fit.tau / 60_000) * Math.log(Math.max(0.4, fit.final - c.state.celsius) / 0.4)), fit }
}

export async function scannerSummary(row: ScannerRow, keeper: ScannerKeeper): Promise<ScannerSummary> {
  const c = keeper.of(row.id)
  const { calibration, verification } = await inUse(row)
  const { state } = c
  return {
    id: row.id,
    name: row.name,
    model: row.model,
    serial: row.serial,
    kind: row.spec.kind,
    turntable: row.spec.turntable,
    own: row.spec.own !== undefined,
    standIn: row.standIn ? { clock: c.clock ?? 1 } : null,
    on: row.switchedOn,
    address: row.address,
    link: c.status,
    problem: c.problem,
    state: state && { celsius: state.celsius, room: state.room, warm: state.warm, exposure: state.exposure, pattern: state.pattern },
    warmIn: warmIn(c).minutes,
    health: healthOf(row, calibration, verification, state?.room ?? null),
    calibration: calibration && calibrationSummary(calibration),
    verification: verification && verificationSummary(verification),
    run: c.run && !c.run.over() ? { kind: c.run.kind, phase: c.run.phase() } : null,
  }
}

export async function scannerDetail(row: ScannerRow, keeper: ScannerKeeper): Promise<ScannerDetail> {
  const c = keeper.of(row.id)
  const { fit } = warmIn(c)
  const [calibrations, verifications, notes] = await Promise.all([
    CalibrationRow.findAll({ where: { scannerId: row.id, state: 'done' }, order: [['at', 'ASC']], attributes: { exclude: ['observations'] } }),
    VerificationRow.findAll({ where: { scannerId: row.id }, order: [['at', 'ASC']] }),
    NoteRow.findAll({ where: { scannerId: row.id }, order: [['at', 'DESC']], limit: 100 }),
  ])
  return {
    ...(await scannerSummary(row, keeper)),
    spec: row.spec,
    calibrations: calibrations.map(calibrationSummary),
    verifications: verifications.map(verificationSummary),
    notes: notes.map((n) => ({ at: n.at.toISOString(), text: n.text })),
    warming: { minutes: c.minutes, celsius: c.celsius, final: fit?.final ?? null, tau: fit ? fit.tau / 60_000 : null },
  }
}

export function artefactSummary(a: ArtefactRow): ArtefactSummary {
  const { certificate } = a.certificate
  const ends = certificateEnds(certificate)
  return {
    id: a.id,
    kind: a.kind,
    name: a.certificate.name,
    size: 'pitch' in a.certificate ? a.certificate.pitch : a.certificate.distance,
    certificate: {
      number: certificate.number,
      laboratory: certificate.laboratory,
      date: certificate.date,
      ends: ends.toISOString().slice(0, 10),
      valid: ends.getTime() > Date.now(),
    },
  }
}

/** How a scanner stands now, as it is written beside a pass that was recorded with it. */
export async function standing(id: string, keeper: ScannerKeeper): Promise<RecordedWith> {
  const s = await scannerSummary(await scannerOr404(id), keeper)
  const distance = s.verification?.rows.find((r) => r.name === 'distance')
  return {
    scanner: s.name,
    calibration: s.calibration?.id ?? null,
    state: s.health.state,
    reason: s.health.reason,
    distance: distance ? { error: distance.value, U: distance.uncertainty } : null,
  }
}
