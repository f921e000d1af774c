<template>
  <div class="drawing sheet">
    <p v-if="several" class="soft on">{{ t('chain.on', { addresses: chain.addresses?.join(', ') ?? '' }) }}</p>
    <div class="scroll">
      <svg
        :width="width"
        :height="height"
        :viewBox="`-1 0 ${width} ${height}`"
        role="group"
        :aria-label="t('chain.title')"
      >
        <text class="lane-title" :x="0" y="13">{{ t('chain.served') }}</text>
        <text class="lane-title" :x="left" y="13">{{ t('chain.right') }}</text>
        <text v-if="layout.lanes > 1" class="lane-title" :x="x(1)" y="13">{{ t('chain.others') }}</text>
        <g data-test="served">
          <text v-if="!layout.served.length" class="soft" x="0" y="46">{{ t('chain.none') }}</text>
          <g
            v-for="(entry, index) in layout.served"
            :key="index"
            :data-place="entry.link.place"
            :transform="`translate(0 ${y(index)})`"
          >
            <title>{{ entry.link.label }}</title>
            <rect :width="box.width" :height="box.height" rx="3" />
            <text class="label" x="10" y="18">{{ index + 1 }}&ensp;{{ short(entry.link.label) }}</text>
            <text class="fact" x="10" y="35">{{ t(`role.${entry.link.role}`) }}, {{ entry.key }}</text>
            <text class="fact" x="10" y="51">{{ until(entry) }}</text>
            <text v-if="entry.link.place !== 'in-place'" class="place" x="10" y="67">
              {{ placeOf(entry) }}
            </text>
          </g>
        </g>
        <g>
          <path
            v-for="(edge, index) in layout.edges"
            :key="index"
            class="edge"
            :class="{ best: edge.best, dead: !edge.valid }"
            :d="line(edge)"
          />
        </g>
        <g data-test="right">
          <g
            v-for="node in layout.nodes"
            :key="node.id"
            :data-place="node.place"
            :data-lane="node.lane"
            :transform="`translate(${x(node.lane)} ${y(node.level)})`"
          >
            <title>{{ node.label }}</title>
            <rect :width="box.width" :height="box.height" rx="3" />
            <rect
              v-if="node.stores.length"
              class="inner"
              x="3"
              y="3"
              :width="box.width - 6"
              :height="box.height - 6"
              rx="2"
            />
            <text class="label" x="10" y="18">{{ short(node.label) }}</text>
            <text class="fact" x="10" y="35">{{ t(`role.${node.role}`) }}, {{ node.key }}</text>
            <text class="fact" x="10" y="51">{{ until(node) }}</text>
            <text v-if="words(node)" class="place" x="10" y="67">{{ short(words(node)) }}</text>
          </g>
        </g>
      </svg>
    </div>
    <p class="accepted" :data-accepted="chain.view.complete">{{ accepted }}</p>
    <details v-if="chain.bundle?.length" data-test="bundle">
      <summary>{{ t('chain.bundle', { count: String(chain.bundle.length) }) }}</summary>
      <pre class="mono">{{ chain.bundle.join('') }}</pre>
    </details>
  </div>
</template>

<script lang="ts" setup>
import { computed } from 'vue'
import { t } from '../words/t'
import { chainLayout } from './chain-layout'
import type { Edge, Layout, Node } from './chain-layout'
import type { Chain, Description } from '../api/client'

const props = defineProps<{ chain: Chain; certificates: Description[]; several: boolean }>()
const box = { width: 246, height: 76 }
const gap = { x: 22, y: 22 }
const left = box.width + 54
const layout = computed(() => chainLayout(props.chain, props.certificates, new Date()))
const width = computed(() => left + layout.value.lanes * (box.width + gap.x) - gap.x + 2)
const height = computed(() => y(Math.max(layout.value.levels, layout.value.served.length)) - gap.y + 2)

function x(lane: number): number {
  return left + lane * (box.width + gap.x)
}
function y(level: number): number {
  return 24 + level * (box.height + gap.y)
}

/** From the middle of a box's foot to the middle of the next one's head, bent where lanes change. */
function line({ from, to }: Edge): string {
  const [x1, y1, x2, y2] = [x(from.lane) + box.width / 2, y(from.level) + box.height, x(to.lane) + box.width / 2,
    y(to.level)]
  const bend = y2 - gap.y / 2
  return x1 === x2 ? `M${x1} ${y1}V${y2}` : `M${x1} ${y1}V${bend}H${x2}V${y2}`
}

function short(text: string): string {
  return text.length > 33 ? `${text.slice(0, 32)}…` : text
}

function until(of: { until: string; expired: boolean }): string {
  return t(of.expired ? 'chain.expired' : 'chain.until', { when: of.until })
}

function placeOf({ link, belongs }: Layout['served'][number]): string {
  if (belongs) return t('place.belongs', { place: String(belongs) })
  const elsewhere = link.place === 'not-on-path' && layout.value.nodes.some((n) => n.id === link.sha256)
  return t(elsewhere ? 'place.elsewhere' : `place.${link.place}`)
}

/** What the last line of a box says. */
function words(node: Node): string {
  if (node.stores.length) return t('place.anchorOf', { stores: node.stores.join(', ') })
  const unsaid = ['in-place', 'not-on-path', 'out-of-order'].includes(node.place)
  return unsaid ? '' : t(`place.${node.place}`)
}

const accepted = computed(() => {
  const { store, complete } = props.chain.view
  if (!store) return t('chain.refused')
  return complete ? t('chain.accepted', { store }) : t('chain.wouldBe', { store })
})
</script>

<style scoped>
.scroll { overflow-x: auto; }
svg { display: block; font-size: 12px; }
text { fill: var(--ink); }
.lane-title { font-size: 12.5px; font-weight: 600; fill: var(--ink-soft); }
.label { font-size: 13px; font-weight: 600; }
.fact, .soft { fill: var(--ink-soft); }
.place { font-weight: 600; }
rect { fill: var(--sheet); stroke: var(--ink-soft); stroke-width: 1.5; }
.inner { fill: none; stroke-width: 1; }
[data-place='missing'] rect { stroke: var(--faulty); stroke-dasharray: 6 4; }
[data-place='out-of-order'] rect { stroke: var(--faulty); }
[data-place='missing'] .place, [data-place='out-of-order'] .place { fill: var(--faulty); }
[data-place='not-on-path'] rect, [data-place='anchor-sent'] rect { stroke-dasharray: 2 3; }
[data-place='anchor'] .place, [data-place='beside'] .place { font-weight: 400; fill: var(--ink-soft); }
.edge { fill: none; stroke: var(--ink-soft); stroke-width: 1.5; }
.edge.best { stroke: var(--ink); stroke-width: 2.5; }
.edge.dead { stroke: var(--faulty); stroke-dasharray: 5 4; }
.accepted { margin: 10px 0 0; font-size: 13px; }
.accepted[data-accepted='false'] { color: var(--faulty); font-weight: 600; }
.on { margin: 0 0 8px; }
details { margin-top: 8px; }
pre { overflow-x: auto; max-height: 220px; }
</style>
