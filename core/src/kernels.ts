/** Every module that defines a kernel: a worker thread imports this and can then run any of them. */
import './align/joint.ts'
import './align/surfels.ts'
import './clean/strays.ts'
import './inspect/deviation.ts'
import './merge/field.ts'
import './scanner/rangeview.ts'
import './shape/normals.ts'
import './space/winding.ts'
