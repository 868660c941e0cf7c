import { bracketJob, TRUE_SECOND_SETUP } from '../demo/src/scenario.ts'
import { threadPool } from '@oak-gauge/threads'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { alignByShape } from '@oak-gauge/core/align/coarse.ts'
import { makePoints, keepPoints, boundingBox } from '@oak-gauge/core/shape/points.ts'
import { identity, poseDifference } from '@oak-gauge/core/base/mat4.ts'
import { existsSync, readFileSync, writeFileSync } from 'node:fs'
const pool = threadPool()
const ctx = { ...quietContext, parallel: pool }
if (!existsSync('/tmp/demo.json')) {
  const j = await bracketJob(ctx)
  const meta:any[]=[]
  j.setups.forEach((s,k)=>s.passes.forEach((p,i)=>{writeFileSync(`/tmp/demo${k}${i}.f32`, p.points.xyz); meta.push({k,i,v:p.points.viewpoint})}))
  writeFileSync('/tmp/demo.json', JSON.stringify(meta))
}
const side: any[][] = [[],[]]
for (const m of JSON.parse(readFileSync('/tmp/demo.json','utf8'))) {
  const b=readFileSync(`/tmp/demo${m.k}${m.i}.f32`); const xyz=new Float32Array(new SharedArrayBuffer(b.length)); new Uint8Array(xyz.buffer).set(b)
  const p=makePoints({xyz,viewpoint:m.v})
  const keep=new Uint8Array(xyz.length/3); for(let i=0;i<keep.length;i++) keep[i]=xyz[3*i+2]>0.35 && !(m.k===0&&xyz[3*i]>86&&xyz[3*i+1]<-68)?1:0
  side[m.k].push({name:`p${m.k}${m.i}`,data:keepPoints(p,keep,'x'),pose:identity()})
}
console.log(side.map(s=>s.map(p=>p.data.xyz.length/3)), [...TRUE_SECOND_SETUP])
;(globalThis as any).TRUTH = TRUE_SECOND_SETUP
const t=performance.now()
try { const r=await alignByShape(side[0],side[1],{},ctx); const d=poseDifference(r.pose,TRUE_SECOND_SETUP,boundingBox(side[1][0].data.xyz)); console.log(r.overlap,r.against,r.rivalry,r.ambiguous,r.size,d, performance.now()-t)} catch(e){console.log((e as Error).message, performance.now()-t)}
await pool.close()
