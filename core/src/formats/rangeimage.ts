import { decode } from 'fast-png'
import { OakError } from '../base/errors.ts'
import type { Camera } from '../calibrate/camera.ts'
import { rayTable } from '../scanner/plateimage.ts'

/**
 * Reads range images of a camera: PNGs of one channel whose grey is the distance along the axis of the camera, in steps; 0: nothing was seen. Points: x to the right,
 * y down, z away, as the camera sees, 3N. step: length of one step; points are in its unit. Throws OakError 'bad-frames' for another size than the camera's, or more
 * channels than one.
 */
export function rangeReader(camera: Camera, step: number): (png: Uint8Array, where: string) => Float32Array {
  // a second for a large camera whose lens bends
  let rays: Float64Array | undefined
  return (png, where) => {
    const { width, height, data } = decoded(png, where)
    if (width !== camera.width || height !== camera.height)
      throw new OakError('bad-frames', `This range image has ${width} x ${height} px, its camera ${camera.width} x ${camera.height}.`, {
        where,
        remedy: 'Give the camera of these images in frames.json, or images of that camera.',
      })
    rays ??= rayTable(camera)
    const xyz = new Float32Array(3 * data.length)
    let n = 0
    for (let i = 0; i < data.length; i++) {
      if (!data[i]) continue
      const z = data[i] * step
      xyz[n] = rays[2 * i] * z
      xyz[n + 1] = rays[2 * i + 1] * z
      xyz[n + 2] = z
      n += 3
    }
    return xyz.slice(0, n)
  }
}

function decoded(png: Uint8Array, where: string) {
  let image
  try {
    image = decode(png)
  } catch (e) {
    throw new OakError('bad-frames', `This PNG cannot be read (${e instanceof Error ? e.message : 'damaged'}).`, {
      where,
      remedy: 'Write it again, or copy it again.',
    })
  }
  if (image.channels !== 1 || image.palette)
    throw new OakError('bad-frames', 'This PNG is a picture in colour; a range image has one channel.', {
      where,
      remedy: 'Write distances as grey of 16 bits.',
    })
  return image
}
