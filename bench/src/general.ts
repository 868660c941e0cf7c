import { execFileSync, spawnSync } from 'node:child_process'
import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import type { Mesh } from '@oak-gauge/core/shape/mesh.ts'

export interface GeneralFigures {
  normals: number
  align: number
  distance: number
  reduce: number
}

const PYTHON = '/usr/bin/python3'

/**
 * The same by a general-purpose library (Debian's python3-open3d), on the same data in the same run, seconds: normals of all passes (30
 * nearest), point-to-plane alignment of two passes that have them, unsigned distance of points to a mesh, reduction to 200 000 triangles.
 */
export function general(folder: string, passes: Float32Array[], samples: Float32Array, mesh: Mesh): GeneralFigures | undefined {
  if (spawnSync(PYTHON, ['-c', 'import open3d']).status !== 0) {
    process.stderr.write('python3-open3d is not installed: no comparison\n')
    return undefined
  }
  writeFileSync(join(folder, 'cmp.p'), samples)
  writeFileSync(join(folder, 'cmp.v'), mesh.vertices)
  writeFileSync(join(folder, 'cmp.t'), mesh.triangles)
  passes.forEach((p, i) => writeFileSync(join(folder, `cmp.${i}`), p))
  const script = `
import numpy as np, open3d as o3d, time, json
read=lambda f,t:np.fromfile(f,t).reshape(-1,3)
def cloud(x):
    c=o3d.geometry.PointCloud();c.points=o3d.utility.Vector3dVector(x.astype(np.float64));return c
out={}
cs=[cloud(read('cmp.%d'%i,np.float32)) for i in range(${passes.length})]
s=time.time()
for c in cs: c.estimate_normals(o3d.geometry.KDTreeSearchParamKNN(30))
out['normals']=time.time()-s
s=time.time()
o3d.pipelines.registration.registration_icp(cs[1],cs[0],1.5,np.eye(4),o3d.pipelines.registration.TransformationEstimationPointToPlane(),o3d.pipelines.registration.ICPConvergenceCriteria(max_iteration=50))
out['align']=time.time()-s
p=read('cmp.p',np.float32);v=read('cmp.v',np.float32);t=read('cmp.t',np.uint32)
s=time.time()
c=o3d.t.geometry.RaycastingScene();c.add_triangles(o3d.core.Tensor(v),o3d.core.Tensor(t));c.compute_distance(o3d.core.Tensor(p)).numpy()
out['distance']=time.time()-s
m=o3d.geometry.TriangleMesh(o3d.utility.Vector3dVector(v.astype(np.float64)),o3d.utility.Vector3iVector(t.astype(np.int32)))
s=time.time()
m.simplify_quadric_decimation(200000)
out['reduce']=time.time()-s
print(json.dumps(out))`
  const out = execFileSync(PYTHON, ['-c', script], { cwd: folder, encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] })
  return JSON.parse(out.trim().split('\n').pop() as string) as GeneralFigures
}
