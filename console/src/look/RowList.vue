<template>
  <div ref="frame" class="sheet rows" :data-rows="rows.length">
    <!-- The library draws its headings behind the rows, where the keyboard comes after all of them. -->
    <div v-if="wide" class="headings">
      <div v-for="column in columns" :key="column.key" class="heading" :style="styleOf(column)">
        <slot :name="`head-${column.key}`">{{ column.heading }}</slot>
      </div>
    </div>
    <el-table-v2
      v-if="wide"
      ref="table"
      class="virtual"
      :columns="laidOut"
      :data="rows"
      :width="width"
      :height="height"
      :row-height="rowHeight"
      :header-height="0"
      :row-key="rowKey"
      tabindex="0"
      :aria-label="label"
      :aria-rowcount="rows.length"
      @keydown="handleKey"
      @scroll="(at: { scrollTop: number }) => (top = at.scrollTop)"
      @rows-rendered="handleRendered"
    >
      <template #cell="{ column, rowData }">
        <div
          class="cell"
          :class="[column.key, { several: lines }]"
          :style="{ '-webkit-line-clamp': lines }"
          :title="column.hint?.(rowData)"
        >
          <slot :name="column.key" :row="rowData as Row" />
        </div>
      </template>
    </el-table-v2>
    <table v-else class="folding">
      <thead>
        <tr>
          <th v-for="column in columns" :key="column.key" :class="[column.key, { plain: column.plain }]">
            <slot :name="`head-${column.key}`">{{ column.heading }}</slot>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in rows" :key="row[rowKey] as number">
          <td v-for="column in columns" :key="column.key" :class="column.key" :data-title="column.title">
            <slot :name="column.key" :row="row" />
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup generic="Row extends object">
/** A list of any length: of a long one only the rows in sight are drawn, and on a phone each row is a card. */
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import type { RowColumn } from './row-list'

const props = defineProps<{
  columns: RowColumn<Row>[]
  rows: Row[]
  rowKey: keyof Row & string
  label: string
  /** What was asked for the rows, in any form. */
  question: string
  /** How many lines a cell may have; one by default. */
  lines?: number
  /** How high it may be, in pixels, where it is not to fill the window. */
  most?: number
}>()
const emit = defineEmits<{ near: [] }>() // the end is near: time for more

const rowHeight = (props.lines ?? 1) * 20 + 14
const headHeight = 34
const phone = 720 // pixels; as in theme.css
const ahead = 40 // rows before the end
const below = 70 // pixels

const frame = ref<HTMLElement>()
const table = ref<{ scrollToTop(at: number): void }>()
const wide = ref(false)
const width = ref(1000)
const room = ref(600)
const top = ref(0)
const height = computed(() => Math.min(props.most ?? room.value, props.rows.length * rowHeight + 2))
const laidOut = computed(() =>
  props.columns.map(({ key, width: wanted, grow, hint }) => ({
    key,
    dataKey: key,
    width: wanted,
    flexGrow: grow ?? 0,
    hint,
  })),
)

/** As the library lays out the cells below. */
function styleOf(column: RowColumn<Row>) {
  return { width: `${column.width}px`, flex: `${column.grow ?? 0} 1 auto` }
}

function measure() {
  wide.value = typeof matchMedia === 'function' && !matchMedia(`(max-width: ${phone}px)`).matches
  if (!frame.value) return
  width.value = frame.value.clientWidth
  // What is below the list, such as its count, stays in sight too.
  const begins = frame.value.getBoundingClientRect().top + window.scrollY + headHeight
  room.value = Math.max(window.innerHeight - begins - below, 10 * rowHeight)
}
let watched: ResizeObserver | undefined
onMounted(() => {
  measure()
  window.addEventListener('resize', measure)
  if (typeof ResizeObserver !== 'function' || !frame.value) return
  watched = new ResizeObserver(measure)
  watched.observe(frame.value)
})
onUnmounted(() => {
  window.removeEventListener('resize', measure)
  watched?.disconnect()
})

/** The library's table scrolls by wheel and bar alone. */
function handleKey(event: KeyboardEvent) {
  const page = height.value - rowHeight
  const to = {
    ArrowDown: top.value + rowHeight,
    ArrowUp: top.value - rowHeight,
    PageDown: top.value + page,
    PageUp: top.value - page,
    Home: 0,
    End: props.rows.length * rowHeight,
  }[event.key]
  if (to === undefined) return
  event.preventDefault()
  const last = Math.max(0, props.rows.length * rowHeight - height.value)
  table.value?.scrollToTop(Math.min(Math.max(0, to), last))
}

let told = 0 // of so many rows that the end is near
function handleRendered({ rowVisibleEnd }: { rowVisibleEnd: number }) {
  if (rowVisibleEnd < props.rows.length - ahead || told === props.rows.length) return
  told = props.rows.length
  emit('near')
}
watch(
  () => props.rows,
  (now, before) => {
    if (now.length <= before.length) told = 0
  },
)
// Another question begins at the top again; the same one, asked anew, stays where somebody reads.
watch(
  () => props.question,
  () => table.value?.scrollToTop(0),
)
</script>

<style scoped>
.rows { padding: 0; overflow-x: auto; }
.virtual {
  --el-table-border-color: var(--line);
  --el-table-text-color: var(--ink);
  --el-table-header-text-color: var(--ink-soft);
  --el-table-header-bg-color: var(--sheet);
  --el-table-row-hover-bg-color: var(--wash);
  --el-bg-color: var(--sheet);
  font-size: 14px;
}
.headings {
  display: flex; align-items: center; height: 34px; padding-right: 6px; border-bottom: 1px solid var(--line);
}
.heading {
  padding: 0 12px; font-weight: 600; font-size: 12.5px; color: var(--ink-soft); white-space: nowrap; overflow: hidden;
}
.virtual :deep(.el-table-v2__row-cell) { padding: 0 12px; }
.cell { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; width: 100%; }
.several { display: -webkit-box; -webkit-box-orient: vertical; white-space: normal; overflow-wrap: anywhere; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: 4px 12px; border-bottom: 1px solid var(--line); vertical-align: baseline; }
tbody tr:last-child td { border-bottom: 0; }
th { font-weight: 600; font-size: 12.5px; color: var(--ink-soft); white-space: nowrap; }
</style>
