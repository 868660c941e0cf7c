import jpeg from 'jpeg-js'
import { PNG } from 'pngjs'
import { OakError } from '@oak-gauge/core/base/errors.ts'
import type { GreyImage } from '@oak-gauge/core/calibrate/image.ts'

const MOST_PIXELS = 100e6

/** A PNG or JPEG image as grey values; colour is weighed as ITU-R BT.601 says. Throws 'bad-image'. */
export function decodeImage(given: Uint8Array, name: string): GreyImage {
  const bytes = Buffer.from(given.buffer, given.byteOffset, given.byteLength)
  const png = bytes.length > 8 && bytes.readUInt32BE(0) === 0x89504e47
  const jpg = bytes.length > 3 && bytes[0] === 0xff && bytes[1] === 0xd8
  if (!png && !jpg)
    throw new OakError('bad-image', 'The file is neither a PNG nor a JPEG image.', {
      where: name,
      remedy: 'Save the camera images as PNG: JPEG loses a little.',
    })
  // a few bytes may claim to be an image that no memory holds; the JPEG reader looks for itself
  if (png && bytes.length > 24 && bytes.readUInt32BE(16) * bytes.readUInt32BE(20) > MOST_PIXELS)
    throw new OakError('bad-image', `The image claims to have ${bytes.readUInt32BE(16)} x ${bytes.readUInt32BE(20)} pixels.`, {
      where: name,
      remedy: 'Give the images as they came from the cameras.',
    })
  try {
    const { width, height, data } = png ? PNG.sync.read(bytes) : jpeg.decode(bytes, { useTArray: true, maxMemoryUsageInMB: 512 })
    const grey = new Uint8Array(width * height)
    for (let i = 0; i < grey.length; i++) grey[i] = Math.round(0.299 * data[4 * i] + 0.587 * data[4 * i + 1] + 0.114 * data[4 * i + 2])
    return { width, height, data: grey }
  } catch (e) {
    throw new OakError('bad-image', 'The image is damaged.', { where: name, remedy: 'Copy it from the camera again.', cause: e })
  }
}
