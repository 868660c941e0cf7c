import type { z } from 'zod'
import type { RunContext } from '../base/run.ts'
import type { Timeline } from '../capture/timeline.ts'
import type { Markers } from '../markers/markers.ts'
import type { ByteSource } from '../formats/source.ts'
import type { Field } from '../shape/field.ts'
import type { Mesh } from '../shape/mesh.ts'
import type { Placed, Points } from '../shape/points.ts'
import type { Contribution } from '../uncertainty/contribution.ts'
import type { PoseUncertainty } from '../uncertainty/pose.ts'
import type { Motion } from '../align/freemotion.ts'
import type { Quantity, QuantityId } from './quantities.ts'
import type { Stage } from './stages.ts'

/** A file as it was brought, only ever an input. */
export interface FileValue {
  readonly kind: 'file'
  readonly source: ByteSource
}
export type { Field }
export type Value = Points | Mesh | Field | Markers
export type Kind = Value['kind'] | 'file'
export type Item<V extends Value = Value> = Placed<V>

export interface Port {
  kinds: Kind[]
  /** several items in order */
  many?: boolean
  optional?: boolean
  /** items come with the setup they were recorded in, and the result depends on it */
  setups?: boolean
  about: string
}

export interface OutputPort {
  kind: Value['kind']
  many?: boolean
  /** these outputs take the place of the inputs of that port, one for one */
  replaces?: string
  /** of a field: the input or output port of the item whose vertices or points it speaks of */
  on?: string
  about: string
}

export interface Evidence {
  /** most telling first; the strip shows the first few */
  quantities: Quantity[]
  histogram?: { edges: number[]; shares: number[]; unit: string }
  /** what a careful person should know before going on */
  warnings: string[]
  /** how well the poses are known that this step gave */
  poses?: PoseUncertainty[]
  /** motions that nothing holds, and of what */
  motions?: (Motion & { of: string[] })[]
  /** of a recording: how it went */
  timeline?: Timeline
  /** of a rehearsal: its faces, largest first */
  faces?: FaceForetold[]
}

/** What will be known of a face before it is measured. */
export interface FaceForetold {
  /** as a person would point at it */
  of: string
  /** its number in the nominal, or of the side it looks to */
  face: number
  /** mm2 */
  area: number
  /** share of it, 0..1 */
  covered: number
  /** standard uncertainty of a place on it, mm */
  u: number | 'unknown'
  parts?: Contribution[]
}

export type Inputs = Record<string, Item[] | FileValue[]>
export type Outputs = Record<string, Item[]>

/** The only door by which application code changes data. Deterministic, pure, reports progress, honours cancelling. */
export interface Operation<S extends z.ZodType = z.ZodType> {
  name: string
  version: number
  /** a few words for people */
  title: string
  about: string
  stage: Stage
  /** what the strip and the job's card show of it, most telling first */
  shows?: QuantityId[]
  /** the job's card gets a picture of what it made */
  picture?: boolean
  /** settings without which it cannot be called, for those who try it out */
  sample?: z.input<S>
  params: S
  inputs: Record<string, Port>
  outputs: Record<string, OutputPort>
  run(inputs: Inputs, params: z.output<S>, ctx: RunContext): Promise<{ outputs: Outputs; evidence: Evidence }>
}

export function defineOperation<S extends z.ZodType>(o: Operation<S>): Operation<S> {
  return o
}

/** Marker maps of the setups that a step moves: they stand in the same axes as its passes, and must go along. */
export const MAPS_ALONG = {
  input: { kinds: ['markers'], many: true, optional: true, about: 'marker maps of the same setup, which move along' },
  output: { kind: 'markers', many: true, replaces: 'maps', about: 'the maps in their new place' },
} satisfies { input: Port; output: OutputPort }
export function mapsOf(inputs: Inputs): Item<Markers>[] {
  return (inputs['maps'] ?? []) as Item<Markers>[]
}
export function pointsOf(inputs: Inputs, port: string): Item<Points>[] {
  return (inputs[port] ?? []) as Item<Points>[]
}
export function meshesOf(inputs: Inputs, port: string): Item<Mesh>[] {
  return (inputs[port] ?? []) as Item<Mesh>[]
}
