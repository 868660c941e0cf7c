import { StepRow } from '../db/models.ts'
import { OPERATIONS } from '@oak-gauge/core/operations/registry.ts'

/**
 * Steps that wait are computed as the program computes today: those that an earlier version put into the queue ask for the operations of this one. For the
 * web server, when it begins: workers compute only what they are asked for, so that old and new ones may run side by side.
 */
export async function askForThisVersion(): Promise<void> {
  for (const { name, version } of OPERATIONS) await StepRow.update({ version, phase: '' }, { where: { operation: name, state: 'queued' } })
}
