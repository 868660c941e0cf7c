import { useEffect, useRef, useState } from 'react'
import type { CaptureRun } from '@oak-gauge/contract'
import { heardOf, type Heard } from './heard.ts'

const NAME = 'oak.sound'
/** how loud, 1: as loud as it gets; s over which a tone comes and goes without a click */
const LOUD = 0.12
const SOFT = 0.03
/** of the two ticks: Hz, s of one, s from the one to the other, ms from one pair to the next */
const TICK = { pitch: 1200, length: 0.03, apart: 0.11, every: 1500 }

/** An oscillator whose tone follows, and ticks. */
function openSound() {
  const context = new AudioContext()
  const tone = context.createOscillator()
  const level = context.createGain()
  level.gain.value = 0
  tone.connect(level).connect(context.destination)
  tone.start()
  let ticking: ReturnType<typeof setInterval> | undefined
  const tick = () => {
    for (const at of [0, TICK.apart]) {
      const o = context.createOscillator()
      const g = context.createGain()
      const from = context.currentTime + at
      o.frequency.value = TICK.pitch
      g.gain.setValueAtTime(0, from)
      g.gain.linearRampToValueAtTime(LOUD, from + TICK.length / 4)
      g.gain.linearRampToValueAtTime(0, from + TICK.length)
      o.connect(g).connect(context.destination)
      o.start(from)
      o.stop(from + TICK.length)
    }
  }
  // browsers let nothing be heard before the person did something on the page
  const resume = () => void context.resume()
  addEventListener('pointerdown', resume)
  addEventListener('keydown', resume)
  return {
    tell({ tone: pitch, ticks }: Heard): void {
      if (pitch !== null) tone.frequency.setTargetAtTime(pitch, context.currentTime, SOFT)
      level.gain.setTargetAtTime(pitch === null ? 0 : LOUD, context.currentTime, SOFT)
      if (ticks && ticking === undefined) {
        tick()
        ticking = setInterval(tick, TICK.every)
      } else if (!ticks) {
        clearInterval(ticking)
        ticking = undefined
      }
    },
    close(): void {
      clearInterval(ticking)
      removeEventListener('pointerdown', resume)
      removeEventListener('keydown', resume)
      void context.close()
    },
  }
}

/** Lets a recording be heard, unless it is muted; gives whether it is, and the switch. A browser without sound stays silent. */
export function useSound(run: Pick<CaptureRun, 'phase' | 'tracking' | 'distance' | 'range'>): [boolean, (on: boolean) => void] {
  const [on, setOn] = useState(() => localStorage.getItem(NAME) !== 'off')
  const sound = useRef<ReturnType<typeof openSound> | null>(null)
  const { tone, ticks } = heardOf(run)
  useEffect(() => {
    if (!on || !('AudioContext' in globalThis)) return
    const s = openSound()
    sound.current = s
    return () => {
      sound.current = null
      s.close()
    }
  }, [on])
  useEffect(() => sound.current?.tell({ tone, ticks }), [tone, ticks, on])
  return [
    on,
    (next) => {
      localStorage.setItem(NAME, next ? 'on' : 'off')
      setOn(next)
    },
  ]
}
