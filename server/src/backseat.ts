import { setPriority } from 'node:os'

/**
 * Lets others go first: what computes for minutes takes what they leave, so that the web server answers and the screen moves while it does. Of this
 * thread and of those that it begins from now on (so on Linux; elsewhere of the whole process).
 */
export function takeBackSeat(): void {
  try {
    setPriority(10)
  } catch {
    // who may not do so computes as before
  }
}
