import { useEffect, useState } from 'react'
import { API, addressOf, unpack, type CalibrationRun } from '@oak-gauge/contract'

export interface LiveSide {
  width: number
  height: number
  grey: Uint8Array
  /** centres of the dots that were found, and the target: four corners, then its large dots; 2N px of this image */
  dots: Float32Array
  ghost: Float32Array
}
export interface Live {
  sequence: number
  sides: LiveSide[]
  state: CalibrationRun
}

/** The newest pair of images while a run goes on; the next is asked for when the last has been drawn. */
export function useLive(scanner: string, on: boolean): Live | null {
  const [live, setLive] = useState<Live | null>(null)
  useEffect(() => {
    if (!on) return
    const stop = new AbortController()
    const follow = async () => {
      let after = 0
      while (!stop.signal.aborted) {
        try {
          const r = await fetch(addressOf(API.live, { id: scanner }, { after: String(after) }), { signal: stop.signal })
          if (r.status !== 200) {
            // nothing new: the scanner is being moved, or away
            await new Promise((resolve) => setTimeout(resolve, 300))
            continue
          }
          const a = unpack(await r.arrayBuffer())
          const info = JSON.parse(new TextDecoder().decode(a['info'])) as { sequence: number; state: CalibrationRun; sizes: [number, number][] }
          after = info.sequence
          setLive({
            sequence: info.sequence,
            state: info.state,
            sides: info.sizes.map(([width, height], k) => ({
              width,
              height,
              grey: a[`grey${k}`] as Uint8Array,
              dots: a[`dots${k}`] as Float32Array,
              ghost: a[`ghost${k}`] as Float32Array,
            })),
          })
          await new Promise((resolve) => requestAnimationFrame(resolve))
        } catch {
          if (stop.signal.aborted) return
          await new Promise((resolve) => setTimeout(resolve, 1000))
        }
      }
    }
    void follow()
    return () => stop.abort()
  }, [scanner, on])
  return on ? live : null
}
