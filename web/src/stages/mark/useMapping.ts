import type { MappingRun } from '@oak-gauge/contract'
import { useLiveRun } from '../../scanners/useLiveRun.ts'

/** The mapping that is going on with a scanner, followed as it happens; null: none. */
export const useMapping = (scanner: string | null): MappingRun | null => useLiveRun(scanner, 'mapping')
