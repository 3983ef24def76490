import { Mesh } from 'three'
import type { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js'

/** The one mesh that the server's pictures hold. */
export async function meshOf(loader: GLTFLoader, glb: ArrayBuffer): Promise<Mesh | null> {
  const loaded = await loader.parseAsync(glb, '')
  const meshes: Mesh[] = []
  loaded.scene.traverse((o) => {
    if (o instanceof Mesh) meshes.push(o)
  })
  return meshes[0] ?? null
}
