import { designedStereo, type ScannerSpec } from '@oak-gauge/core/scanner/spec.ts'

/** One of the invented devices: what it says of itself, and what only the stand-in knows. */
export interface Device {
  name: string
  model: string
  serial: string
  spec: ScannerSpec
  /** of its making: another seed, another specimen */
  seed: number
  /** warming up: how far it settles above the room, K, and how fast, s */
  rise: number
  tau: number
  /** how well a pixel is located in good light, px */
  noise: number
  /** px between samples of an area pattern */
  stride: number
}

/** ms between two frames: some 17 a second, as fast as a scanner that tracks markers */
export const FLOW = 60
const LIMITS = { kelvin: 4, days: 7, idleDays: 4 }

const alder: Device = {
  name: 'Alder',
  model: 'hand-held laser lines',
  serial: 'AL-0417',
  seed: 417,
  rise: 11,
  tau: 240,
  noise: 0.02,
  stride: 2,
  spec: {
    kind: 'laser-lines',
    design: designedStereo({ width: 1024, height: 768, focal: 1050, baseline: 140, crossing: 400 }),
    range: { near: 250, ideal: 400, far: 550 },
    patterns: ['cross', 'line'],
    shotFrames: 16,
    moving: { rate: 1000 / FLOW, located: 0.02, along: 2 },
    platePitch: [9, 16],
    barLength: 300,
    needsMarkers: true,
    colour: false,
    turntable: false,
    arm: false,
    warmUp: { minutes: 15, driftPerKelvin: 0.012 },
    limits: { reprojection: 0.05, form: 0.35, size: 0.06, distance: 0.06, ...LIMITS },
  },
}

const birch: Device = {
  name: 'Birch',
  model: 'hand-held area, colour',
  serial: 'BI-1102',
  seed: 1102,
  rise: 8,
  tau: 300,
  noise: 0.03,
  stride: 2,
  spec: {
    kind: 'area',
    design: designedStereo({ width: 1024, height: 768, focal: 1100, baseline: 180, crossing: 600 }),
    range: { near: 400, ideal: 600, far: 1000 },
    patterns: ['area'],
    shotFrames: 4,
    moving: { rate: 1000 / FLOW, located: 0.03, stride: 4 },
    platePitch: [14, 26],
    barLength: 300,
    needsMarkers: false,
    colour: true,
    turntable: false,
    arm: false,
    warmUp: { minutes: 20, driftPerKelvin: 0.02 },
    limits: { reprojection: 0.06, form: 1.2, size: 0.15, distance: 0.15, ...LIMITS },
  },
}

const hazel: Device = {
  name: 'Hazel',
  model: 'fixed fringe, turntable',
  serial: 'HA-0059',
  seed: 59,
  rise: 14,
  tau: 360,
  noise: 0.02,
  stride: 2,
  spec: {
    kind: 'fringe',
    design: designedStereo({ width: 1024, height: 768, focal: 1250, baseline: 130, crossing: 310 }),
    range: { near: 220, ideal: 310, far: 400 },
    patterns: ['area'],
    shotFrames: 1,
    platePitch: [5, 10],
    barLength: 150,
    needsMarkers: false,
    colour: false,
    turntable: true,
    arm: false,
    own: { mm: 0.03, degrees: 0.005 },
    warmUp: { minutes: 25, driftPerKelvin: 0.008 },
    limits: { reprojection: 0.04, form: 0.15, size: 0.03, distance: 0.03, ...LIMITS, days: 7 },
  },
}

const rowan: Device = {
  name: 'Rowan',
  model: 'line laser on an arm',
  serial: 'RO-0230',
  seed: 230,
  rise: 6,
  tau: 180,
  noise: 0.03,
  stride: 2,
  spec: {
    kind: 'arm-line',
    design: designedStereo({ width: 1024, height: 768, focal: 1500, baseline: 60, crossing: 130 }),
    range: { near: 95, ideal: 130, far: 170 },
    patterns: ['line'],
    shotFrames: 40,
    moving: { rate: 1000 / FLOW, located: 0.03 },
    platePitch: [2.5, 5],
    barLength: 300,
    needsMarkers: false,
    colour: false,
    turntable: false,
    arm: true,
    own: { mm: 0.008, degrees: 0.001 },
    warmUp: { minutes: 10, driftPerKelvin: 0.003 },
    limits: { reprojection: 0.05, form: 0.2, size: 0.05, distance: 0.06, ...LIMITS },
  },
}

export const DEVICES: Record<string, Device> = { alder, birch, hazel, rowan }
