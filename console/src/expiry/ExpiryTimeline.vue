<template>
  <div ref="box" class="timeline">
    <svg :viewBox="`0 0 ${layout.width} ${layout.height}`" :width="layout.width" :height="layout.height" role="img"
      :aria-label="t('expiry.timeline')">
      <g v-for="tick in layout.ticks" :key="tick.label">
        <line class="grid" :x1="tick.x" :x2="tick.x" y1="4" :y2="layout.height - 22" />
        <text class="tick" :x="tick.x + 3" :y="layout.height - 8">{{ tick.label }}</text>
      </g>
      <g v-for="lane in layout.lanes" :key="lane.kind">
        <line class="lane" :x1="left" :x2="layout.width" :y1="lane.y" :y2="lane.y" />
        <text class="kind" x="0" :y="lane.y + 4">{{ t(`expiry.kind.${lane.kind}`) }}</text>
      </g>
      <line v-if="layout.now" class="now" :x1="layout.now" :x2="layout.now" y1="0" :y2="layout.height - 22" />
      <a
        v-for="mark in layout.marks"
        :key="mark.day.kind + mark.day.day"
        href="#"
        :aria-label="words(mark.day)"
        data-test="mark"
        @click.prevent="$emit('choose', mark.day)"
      >
        <title>{{ words(mark.day) }}</title>
        <rect class="target" :x="mark.x - 8" :y="mark.y - 16" width="16" height="32" />
        <path
          :transform="`translate(${mark.x - mark.size / 2} ${mark.y - mark.size / 2}) scale(${mark.size / 12})`"
          :d="stateShapes[mark.day.state].path"
          :fill="stateShapes[mark.day.state].filled ? stateShapes[mark.day.state].colour : 'var(--sheet)'"
          :stroke="stateShapes[mark.day.state].colour"
          stroke-width="1.6"
        />
      </a>
    </svg>
    <p class="soft beside">
      {{ t('expiry.beside', { past: timeline.past, from: timeline.from, later: timeline.later,
        until: timeline.until }) }}
    </p>
  </div>
</template>

<script lang="ts" setup>
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { t } from '../words/t'
import { stateShapes } from './states'
import { layOut } from './timeline-layout'
import type { DueDay, Timeline } from '../api/client'

const props = defineProps<{ timeline: Timeline }>()
defineEmits<{ choose: [day: DueDay] }>()

const left = 92
const box = ref<HTMLElement>()
const width = ref(1100)
const layout = computed(() => layOut(props.timeline, width.value, left))

function words(day: DueDay) {
  const names = day.labels?.join(', ') ?? ''
  const more = day.count - (day.labels?.length ?? 0)
  return `${day.day}: ${names}${more > 0 ? ` ${t('expiry.more', { n: more })}` : ''}`
}

function measure() {
  if (box.value?.clientWidth) width.value = box.value.clientWidth
}
onMounted(() => {
  measure()
  addEventListener('resize', measure)
})
onBeforeUnmount(() => removeEventListener('resize', measure))
</script>

<style scoped>
.timeline { min-width: 0; }
svg { display: block; max-width: 100%; }
.grid { stroke: var(--line); stroke-dasharray: 2 3; }
.lane { stroke: var(--line); }
.now { stroke: var(--accent); stroke-width: 1.5; }
/* There is room for every third only. */
@media (max-width: 720px) { g:not(:nth-child(3n + 1)) > .tick { display: none; } }
.tick, .kind { font-size: 11.5px; fill: var(--ink-soft); }
.target { fill: transparent; }
a { cursor: pointer; }
a:hover path, a:focus-visible path { stroke: var(--ink); }
.beside { margin: 6px 0 0; font-size: 12.5px; }
</style>
