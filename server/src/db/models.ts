import { DataTypes, Model, Sequelize, type CreationOptional, type InferAttributes, type InferCreationAttributes } from 'sequelize'
import type { Problem, Role, Step } from '@oak-gauge/contract'
import type { CadSurface } from '@oak-gauge/core/base/cad.ts'
import type { Evidence } from '@oak-gauge/core/operations/operation.ts'

export class JobRow extends Model<InferAttributes<JobRow>, InferCreationAttributes<JobRow>> {
  declare id: CreationOptional<string>
  declare title: string
  declare part: CreationOptional<string>
  declare purpose: 'inspection' | 'reverse-engineering' | 'custom-part'
  declare tolerance: CreationOptional<number | null>
  declare surface: 'matte' | 'dark' | 'glossy' | 'see-through'
  declare notes: CreationOptional<string>
  declare scanner: CreationOptional<string | null>
  declare demo: CreationOptional<boolean>
  /** the step the job stands at */
  declare head: CreationOptional<string | null>
  /** the far end of the branch the job stands on: where stepping forward leads */
  declare tip: CreationOptional<string | null>
  declare createdAt: CreationOptional<Date>
  declare updatedAt: CreationOptional<Date>
}

export class SetupRow extends Model<InferAttributes<SetupRow>, InferCreationAttributes<SetupRow>> {
  declare id: CreationOptional<string>
  declare jobId: string
  declare name: string
  declare place: number
}

/** A named place of the tray. Steps speak of slots, so that they can be repeated when what lies in them has changed. */
export class SlotRow extends Model<InferAttributes<SlotRow>, InferCreationAttributes<SlotRow>> {
  declare id: string
  declare jobId: string
  declare role: Role
  declare setupId: CreationOptional<string | null>
}

export class StepRow extends Model<InferAttributes<StepRow>, InferCreationAttributes<StepRow>> {
  declare id: CreationOptional<string>
  declare seq: CreationOptional<number>
  declare jobId: string
  declare parent: CreationOptional<string | null>
  declare operation: string
  declare version: number
  declare params: Record<string, unknown>
  declare inputs: Record<string, string[]>
  /** slots of the outputs by port, known beforehand when a step is repeated */
  declare slots: CreationOptional<Record<string, string[]>>
  declare key: CreationOptional<string | null>
  declare state: CreationOptional<Step['state']>
  /** part of the ledger's graph: done, and not a preview */
  declare chained: CreationOptional<boolean>
  declare preview: CreationOptional<boolean>
  /** steps repeated together: when one fails, those after it are not run */
  declare batch: CreationOptional<string | null>
  /** where the job stood before the repetition: it goes back there when the repetition fails */
  declare origin: CreationOptional<string | null>
  declare cancel: CreationOptional<boolean>
  /** the request that made it, and the step behind which it was asked for: the same request twice is one step */
  declare request: CreationOptional<string | null>
  declare askedAfter: CreationOptional<string | null>
  /** how often a worker died of it */
  declare attempts: CreationOptional<number>
  /** drawn anew each time it begins to run: who does not hold this one must not end the step */
  declare attempt: CreationOptional<string | null>
  declare progress: CreationOptional<number>
  declare phase: CreationOptional<string>
  declare evidence: CreationOptional<Evidence | null>
  declare problem: CreationOptional<Problem | null>
  declare milliseconds: CreationOptional<number | null>
  declare reused: CreationOptional<boolean>
  /** of what it made: small PNG as base64 */
  declare picture: CreationOptional<string | null>
  declare fileId: CreationOptional<string | null>
  declare fileName: CreationOptional<string | null>
  declare fileRole: CreationOptional<string | null>
  declare setupId: CreationOptional<string | null>
  declare recordedWith: CreationOptional<Step['recordedWith']>
  declare createdAt: CreationOptional<Date>
  declare startedAt: CreationOptional<Date | null>
  declare finishedAt: CreationOptional<Date | null>
}

/** Where an array lies: the same numbers are stored once. */
export interface ArrayRef {
  sha: string
  type: 'f32' | 'u32' | 'u8'
  length: number
}
export interface ItemMeta {
  count: number
  box: number[] | null
  faces: number
  /** of a mesh from CAD: what each face is */
  surfaces?: CadSurface[]
  /** of points: distance between neighbours, mm */
  spacing?: number
  unit?: string
  /** of markers: relative standard uncertainty of lengths */
  scale?: number
  viewpoint?: [number, number, number]
}

export class ItemRow extends Model<InferAttributes<ItemRow>, InferCreationAttributes<ItemRow>> {
  declare id: CreationOptional<string>
  declare stepId: string
  declare jobId: string
  declare slotId: string | null
  declare port: string
  declare place: number
  declare name: string
  declare kind: 'points' | 'mesh' | 'field' | 'markers'
  declare arrays: Record<string, ArrayRef>
  declare meta: ItemMeta
  declare pose: number[]
  /** what the browser gets to draw */
  declare display: Record<string, ArrayRef>
  declare onSlot: string | null
}

/** Models of a connection. Column names are snake case; Sequelize turns them. */
export function defineModels(db: Sequelize): void {
  const options = { sequelize: db, underscored: true, freezeTableName: true, timestamps: false }
  // a fresh object each: Sequelize writes the column's name into it
  const uuid = () => ({ type: DataTypes.UUID, primaryKey: true, defaultValue: DataTypes.UUIDV4 })
  const text = (defaultValue?: string) => ({ type: DataTypes.TEXT, ...(defaultValue === undefined ? {} : { defaultValue }) })
  const ref = () => ({ type: DataTypes.UUID })
  const json = () => ({ type: DataTypes.JSONB, allowNull: false })
  const flag = () => ({ type: DataTypes.BOOLEAN, defaultValue: false })
  JobRow.init(
    {
      id: uuid(),
      title: text(),
      part: text(''),
      purpose: text(),
      tolerance: DataTypes.DOUBLE,
      surface: text(),
      notes: text(''),
      scanner: ref(),
      demo: flag(),
      head: ref(),
      tip: ref(),
      createdAt: DataTypes.DATE,
      updatedAt: DataTypes.DATE,
    },
    { ...options, tableName: 'job', timestamps: true },
  )
  SetupRow.init({ id: uuid(), jobId: ref(), name: text(), place: DataTypes.INTEGER }, { ...options, tableName: 'setup' })
  SlotRow.init({ id: uuid(), jobId: ref(), role: text(), setupId: ref() }, { ...options, tableName: 'slot' })
  StepRow.init(
    {
      id: uuid(),
      seq: {
        type: DataTypes.BIGINT,
        autoIncrement: true,
        get(this: StepRow) {
          return Number(this.getDataValue('seq'))
        },
      },
      jobId: ref(),
      parent: ref(),
      operation: text(),
      version: DataTypes.INTEGER,
      params: json(),
      inputs: json(),
      slots: { ...json(), defaultValue: {} },
      key: text(),
      state: text('queued'),
      chained: flag(),
      preview: flag(),
      batch: ref(),
      origin: ref(),
      cancel: flag(),
      request: ref(),
      askedAfter: ref(),
      attempts: { type: DataTypes.INTEGER, defaultValue: 0 },
      attempt: ref(),
      progress: { type: DataTypes.REAL, defaultValue: 0 },
      phase: text(''),
      evidence: DataTypes.JSONB,
      problem: DataTypes.JSONB,
      milliseconds: DataTypes.DOUBLE,
      reused: flag(),
      picture: text(),
      fileId: ref(),
      fileName: text(),
      fileRole: text(),
      setupId: ref(),
      recordedWith: DataTypes.JSONB,
      createdAt: { type: DataTypes.DATE, defaultValue: DataTypes.NOW },
      startedAt: DataTypes.DATE,
      finishedAt: DataTypes.DATE,
    },
    { ...options, tableName: 'step' },
  )
  ItemRow.init(
    {
      id: uuid(),
      stepId: ref(),
      jobId: ref(),
      slotId: ref(),
      port: text(),
      place: DataTypes.INTEGER,
      name: text(),
      kind: text(),
      arrays: json(),
      meta: json(),
      pose: json(),
      display: json(),
      onSlot: ref(),
    },
    { ...options, tableName: 'item' },
  )
}
