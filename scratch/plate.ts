import { readFileSync } from 'node:fs'
import { readAny } from '@oak-gauge/core/formats/index.ts'
import { bytesSource } from '@oak-gauge/core/formats/source.ts'
import { bestFit } from '@oak-gauge/core/datum/bestfit.ts'
import { alignByShape } from '@oak-gauge/core/align/coarse.ts'
import { groupCloud } from '@oak-gauge/core/align/cloud.ts'
import { sampleMesh } from '@oak-gauge/core/shape/sample.ts'
import { threadPool } from '@oak-gauge/threads'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import { boundingBox } from '@oak-gauge/core/shape/points.ts'
import { fromQuaternion, identity, multiply, invertRigid, poseDifference } from '@oak-gauge/core/base/mat4.ts'
const ctx={...quietContext, parallel: threadPool()}
const src=(f:string)=>bytesSource(f.split('/').pop()!, readFileSync('/work/main/core/test/fixtures/'+f))
const scan=(await readAny(src('registration/plate_holes_dev_scan.xyz'))).data as any
const cad=(await readAny(src('cad/plate_holes_dev.stl'))).data as any
const ref=JSON.parse(readFileSync('/work/main/core/test/fixtures/registration/plate_holes_dev_scan.json','utf8'))
const m=identity(); const p=ref.true_pose_scan_to_cad; for(let i=0;i<3;i++){for(let j=0;j<3;j++)m[4*i+j]=p.R_row_major[3*i+j]; m[4*i+3]=p.t[i]}
console.log('scan', scan.xyz.length/3, !!scan.normals, boundingBox(scan.xyz), 'cad', boundingBox(cad.vertices))
const away=fromQuaternion([0.2,-0.7,0.3,0.6],[300,-80,40])
const T=multiply(m,invertRigid(away))
const s={name:'s',data:scan,pose:away}
const cl=await groupCloud([s],2200,ctx); const tr=cl
// normals correct?
const sm=sampleMesh(cad,40000,1)
let ok=0,n=0; for(let i=0;i<cl.xyz.length/3;i+=5){ const q=[0,1,2].map(r=>T[4*r]*cl.xyz[3*i]+T[4*r+1]*cl.xyz[3*i+1]+T[4*r+2]*cl.xyz[3*i+2]+T[4*r+3]); let d=1e9,k=-1; for(let j=0;j<40000;j++){const e=Math.hypot(q[0]-sm.xyz[3*j],q[1]-sm.xyz[3*j+1],q[2]-sm.xyz[3*j+2]); if(e<d){d=e;k=j}} const nn=[0,1,2].map(r=>T[4*r]*cl.normals[3*i]+T[4*r+1]*cl.normals[3*i+1]+T[4*r+2]*cl.normals[3*i+2]); const c=nn[0]*sm.normals[3*k]+nn[1]*sm.normals[3*k+1]+nn[2]*sm.normals[3*k+2]; n++; if(c>0.5)ok++ }
console.log('normals agree', ok/n, cl.guessed)
try { const r=await alignByShape([{name:'c',data:{kind:'points',xyz:sm.xyz,normals:sm.normals},pose:identity()}],[s],{},ctx)
console.log(r.overlap,r.against,r.ambiguous, poseDifference(r.pose,T,boundingBox(scan.xyz)).max, r.others.map(o=>poseDifference(o,T,boundingBox(scan.xyz)).max)) } catch(e){console.log(e)}
const b=await bestFit(s as any,{name:'c',data:cad,pose:identity()},{byShape:true},ctx)
console.log(b.ambiguous,b.rms,poseDifference(multiply(b.pose, identity()),m,boundingBox(scan.xyz)))
await ctx.parallel.close()
