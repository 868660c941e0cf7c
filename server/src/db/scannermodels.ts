import { DataTypes, Model, type CreationOptional, type InferAttributes, type InferCreationAttributes, type Sequelize } from 'sequelize'
import type { BallBar, BarReading, VerificationLimits, Verified } from '@oak-gauge/core/calibrate/ballbar.ts'
import type { CalibrationResult, StereoObservation } from '@oak-gauge/core/calibrate/calibration.ts'
import type { Stereo } from '@oak-gauge/core/calibrate/camera.ts'
import type { Judgement } from '@oak-gauge/core/calibrate/judge.ts'
import type { Plate } from '@oak-gauge/core/calibrate/plate.ts'
import type { ScannerSpec } from '@oak-gauge/core/scanner/spec.ts'
import type { Problem } from '@oak-gauge/contract'

export class ScannerRow extends Model<InferAttributes<ScannerRow>, InferCreationAttributes<ScannerRow>> {
  declare id: CreationOptional<string>
  declare name: string
  declare model: string
  declare serial: string
  /** of a real scanner, or a bridge to it */
  declare address: CreationOptional<string | null>
  /** of a stand-in: which, and what outlives its process */
  declare standIn: CreationOptional<{ device: string; drops: number; made: number; calibration: { id: string; stereo: Stereo } | null } | null>
  declare switchedOn: CreationOptional<boolean>
  declare spec: ScannerSpec
  /** the calibration in use; earlier ones stay */
  declare calibrationId: CreationOptional<string | null>
  declare shockAt: CreationOptional<Date | null>
  declare usedAt: CreationOptional<Date | null>
  declare createdAt: CreationOptional<Date>
}

export class ArtefactRow extends Model<InferAttributes<ArtefactRow>, InferCreationAttributes<ArtefactRow>> {
  declare id: CreationOptional<string>
  declare kind: 'plate' | 'ball-bar'
  declare certificate: Plate | BallBar
  declare createdAt: CreationOptional<Date>
}

export class CalibrationRow extends Model<InferAttributes<CalibrationRow>, InferCreationAttributes<CalibrationRow>> {
  declare id: CreationOptional<string>
  declare scannerId: string
  declare previousId: CreationOptional<string | null>
  declare at: CreationOptional<Date>
  /** open: still taking images */
  declare state: 'open' | 'done' | 'failed' | 'cancelled'
  declare way: 'hand' | 'script' | 'turntable' | 'files'
  /** as it was on that day */
  declare plate: Plate
  declare celsius: number
  declare cold: boolean
  declare observations: StereoObservation[]
  declare result: CreationOptional<CalibrationResult | null>
  declare judgement: CreationOptional<Judgement | null>
}

export class VerificationRow extends Model<InferAttributes<VerificationRow>, InferCreationAttributes<VerificationRow>> {
  declare id: CreationOptional<string>
  declare scannerId: string
  declare calibrationId: string | null
  declare at: CreationOptional<Date>
  declare bar: BallBar
  declare celsius: number
  declare cold: boolean
  declare limits: VerificationLimits
  declare readings: BarReading[]
  declare result: Verified
}

export class NoteRow extends Model<InferAttributes<NoteRow>, InferCreationAttributes<NoteRow>> {
  declare id: CreationOptional<string>
  declare scannerId: string
  declare at: CreationOptional<Date>
  declare text: string
}

/** What goes on with a scanner: asked for, how far it is, how it ended. Frames that it recorded are in session_chunk. */
export class SessionRow extends Model<InferAttributes<SessionRow>, InferCreationAttributes<SessionRow>> {
  declare id: CreationOptional<string>
  declare kind: 'calibration' | 'verification' | 'mapping' | 'capture'
  declare scannerId: string
  declare jobId: CreationOptional<string | null>
  declare state: CreationOptional<'open' | 'done' | 'cancelled' | 'failed'>
  /** the process that leads it: another one that thinks so has lost it */
  declare holder: string
  declare options: object
  declare progress: CreationOptional<object>
  declare problem: CreationOptional<Problem | null>
  declare createdAt: CreationOptional<Date>
  declare endedAt: CreationOptional<Date | null>
}

export function defineScannerModels(db: Sequelize): void {
  const options = { sequelize: db, underscored: true, freezeTableName: true, timestamps: false }
  const uuid = () => ({ type: DataTypes.UUID, primaryKey: true, defaultValue: DataTypes.UUIDV4 })
  const now = () => ({ type: DataTypes.DATE, defaultValue: DataTypes.NOW })
  const { TEXT, JSONB, DATE, DOUBLE, BOOLEAN, UUID } = DataTypes
  ScannerRow.init(
    {
      id: uuid(),
      name: TEXT,
      model: TEXT,
      serial: TEXT,
      address: TEXT,
      standIn: JSONB,
      switchedOn: { type: BOOLEAN, defaultValue: false },
      spec: JSONB,
      calibrationId: UUID,
      shockAt: DATE,
      usedAt: DATE,
      createdAt: now(),
    },
    { ...options, tableName: 'scanner' },
  )
  ArtefactRow.init({ id: uuid(), kind: TEXT, certificate: JSONB, createdAt: now() }, { ...options, tableName: 'artefact' })
  CalibrationRow.init(
    {
      id: uuid(),
      scannerId: UUID,
      previousId: UUID,
      at: now(),
      state: TEXT,
      way: TEXT,
      plate: JSONB,
      celsius: DOUBLE,
      cold: BOOLEAN,
      observations: JSONB,
      result: JSONB,
      judgement: JSONB,
    },
    { ...options, tableName: 'calibration' },
  )
  VerificationRow.init(
    {
      id: uuid(),
      scannerId: UUID,
      calibrationId: UUID,
      at: now(),
      bar: JSONB,
      celsius: DOUBLE,
      cold: BOOLEAN,
      limits: JSONB,
      readings: JSONB,
      result: JSONB,
    },
    { ...options, tableName: 'verification' },
  )
  NoteRow.init({ id: uuid(), scannerId: UUID, at: now(), text: TEXT }, { ...options, tableName: 'scanner_note' })
  SessionRow.init(
    {
      id: uuid(),
      kind: TEXT,
      scannerId: UUID,
      jobId: UUID,
      state: { type: TEXT, defaultValue: 'open' },
      holder: UUID,
      options: JSONB,
      progress: { type: JSONB, defaultValue: {} },
      problem: JSONB,
      createdAt: now(),
      endedAt: DATE,
    },
    { ...options, tableName: 'session' },
  )
}
