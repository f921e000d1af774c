import type { Chain, ChainLink, Description } from '../api/client'

/** What a node is beside its certificate. */
export interface Node {
  id: string
  label: string
  role: ChainLink['role']
  key: string
  until: string
  expired: boolean
  place: ChainLink['place'] | 'beside'
  /** Steps up from the leaf, which is 0. */
  level: number
  /** Column in the drawing; 0 is the best path's. */
  lane: number
  /** Trust stores of which this is an anchor. */
  stores: string[]
}

/** A certificate and its issuer. */
export interface Edge {
  from: Node
  to: Node
  best: boolean
  /** A valid path goes this way. */
  valid: boolean
}

export interface Layout {
  served: { link: ChainLink; until: string; key: string; expired: boolean; belongs?: number }[]
  nodes: Node[]
  edges: Edge[]
  lanes: number
  levels: number
}

/** Where every certificate stands: the best path straight up in lane 0, the others beside it. */
export function chainLayout(chain: Chain, certificates: Description[], now: Date): Layout {
  const known = new Map(certificates.map((c) => [c.sha256, c]))
  const right = chain.view.right ?? []
  const given = chain.view.given ?? []
  const facts = (id: string) => {
    const c = known.get(id)
    return {
      key: c?.key ?? '',
      until: c?.not_after?.slice(0, 10) ?? '',
      expired: c?.not_after ? new Date(c.not_after) < now : false,
    }
  }
  const all = paths(chain)
  const nodes = new Map<string, Node>()
  const place = (id: string): Node['place'] => {
    const known = right.find((l) => l.sha256 === id)
    if (known) return known.place
    return given.some((l) => l.sha256 === id) ? 'not-on-path' : 'beside'
  }
  for (const path of all) {
    const fresh: { id: string; level: number }[] = []
    path.ids.forEach((id, level) => {
      const node = nodes.get(id)
      if (node) node.level = Math.max(node.level, level)
      else fresh.push({ id, level })
    })
    const taken = [...nodes.values()]
    let lane = 0
    while (taken.some((n) => n.lane === lane && fresh.some((f) => f.level === n.level))) lane++
    for (const { id, level } of fresh) {
      const c = known.get(id)
      const link = right.find((l) => l.sha256 === id) ?? given.find((l) => l.sha256 === id)
      const role = link?.role ?? (c?.subject === c?.issuer_name ? 'root' : 'intermediate')
      nodes.set(id, {
        id,
        label: c?.label ?? id.slice(0, 12),
        role,
        place: place(id),
        level,
        lane,
        stores: [],
        ...facts(id),
      })
    }
    const top = nodes.get(path.ids.at(-1) ?? '')
    if (path.anchored && top && !top.stores.includes(path.store)) top.stores.push(path.store)
  }
  const edges = new Map<string, Edge>()
  all.forEach((path, index) => {
    path.ids.slice(1).forEach((id, step) => {
      const [from, to] = [nodes.get(path.ids[step] ?? ''), nodes.get(id)]
      if (!from || !to) return
      const key = from.id + to.id
      const edge = edges.get(key) ?? { from, to, best: false, valid: false }
      edge.best ||= index === 0
      edge.valid ||= path.valid
      edges.set(key, edge)
    })
  })
  const list = [...nodes.values()]
  return {
    served: given.map((link) => {
      const belongs = link.place === 'out-of-order' ? right.findIndex((l) => l.sha256 === link.sha256) + 1 : undefined
      return { link, belongs, ...facts(link.sha256) }
    }),
    nodes: list,
    edges: [...edges.values()],
    lanes: Math.max(1, ...list.map((n) => n.lane + 1)),
    levels: Math.max(1, ...list.map((n) => n.level + 1)),
  }
}

interface Route {
  store: string
  ids: string[]
  valid: boolean
  anchored: boolean
}

/** The best path first, then the paths of every store; one that is the beginning of another is left out. */
function paths(chain: Chain): Route[] {
  const right = chain.view.right ?? []
  const routes: Route[] = [
    {
      store: chain.view.store ?? '',
      ids: right.map((l) => l.sha256),
      valid: Boolean(chain.view.store),
      anchored: false,
    },
  ]
  for (const audience of chain.audiences ?? []) {
    for (const path of audience.paths ?? []) {
      routes.push({
        store: audience.store,
        ids: path.certificates ?? [],
        valid: path.valid,
        anchored: Boolean(path.anchor),
      })
    }
  }
  const begins = (a: string[], b: string[]) => a.length < b.length && a.every((id, i) => b[i] === id)
  return routes.filter((r, i) => i === 0 || r.anchored || !routes.some((other) => begins(r.ids, other.ids)))
}
