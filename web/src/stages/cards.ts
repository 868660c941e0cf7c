import type { ComponentType } from 'react'
import type { Stage } from '@oak-gauge/contract'
import { AlignCard } from './align/AlignCard.tsx'
import { BriefCard } from './brief/BriefCard.tsx'
import { CaptureCard } from './capture/CaptureCard.tsx'
import { CleanCard } from './clean/CleanCard.tsx'
import { DatumCard } from './datum/DatumCard.tsx'
import { DeliverCard } from './deliver/DeliverCard.tsx'
import { InspectCard } from './inspect/InspectCard.tsx'
import { MarkCard } from './mark/MarkCard.tsx'
import { MarkOverlay } from './mark/MarkOverlay.tsx'
import { MergeCard } from './merge/MergeCard.tsx'
import { ReadyCard } from './ready/ReadyCard.tsx'

export interface CardProps {
  go(stage: Stage): void
}

/** What a stage lays over the view while something is going on. */
export const OVERLAYS: Partial<Record<Stage, ComponentType>> = { Mark: MarkOverlay }

/** The work card of each stage. */
export const CARDS: Record<Stage, ComponentType<CardProps>> = {
  Brief: BriefCard,
  Ready: ReadyCard,
  Mark: MarkCard,
  Capture: CaptureCard,
  Clean: CleanCard,
  Align: AlignCard,
  Merge: MergeCard,
  Datum: DatumCard,
  Inspect: InspectCard,
  Deliver: DeliverCard,
}
