<template>
  <h1>{{ t('workbench.title') }}</h1>
  <p class="promise sheet">
    <b>{{ t('workbench.promise') }}</b> {{ t('workbench.how') }}
  </p>
  <p v-if="broken" class="sheet" role="alert">{{ t('workbench.broken') }} {{ broken }}</p>

  <div class="entry">
    <label
      class="drop sheet"
      :class="{ over }"
      data-test="drop"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="handleDrop"
    >
      <input class="hidden-text" type="file" multiple data-test="choose" @change="handleChoose" />
      <b>{{ t('workbench.drop') }}</b>
      <span class="soft">{{ t('workbench.forms') }}</span>
    </label>
    <form class="paste sheet" @submit.prevent="handlePaste">
      <label for="pasted">{{ t('workbench.paste') }}</label>
      <textarea
        id="pasted"
        v-model="pasted"
        class="mono"
        rows="4"
        spellcheck="false"
        autocomplete="off"
        data-test="paste"
      />
      <el-button
        size="small"
        native-type="submit"
        :disabled="!pasted.trim()"
        data-test="read"
        >{{ t('workbench.read') }}</el-button
      >
    </form>
  </div>

  <form v-if="locked" class="unlock sheet" @submit.prevent="sort">
    <label for="password">{{ t('workbench.locked') }}</label>
    <input id="password" v-model="password" type="password" autocomplete="off" data-test="password" />
    <el-button size="small" native-type="submit" data-test="unlock">{{ t('workbench.unlock') }}</el-button>
  </form>

  <p class="status soft" aria-live="polite">
    <span v-if="busy">{{ t('workbench.busy') }}</span>
    <template v-else-if="sorted">
      {{ t('workbench.count', { files: sorted.files.length, things: entries.length }) }}
      <el-button size="small" data-test="clear" @click="clear">{{ t('workbench.clear') }}</el-button>
    </template>
    <span v-else-if="!loaded && !broken">{{ t('workbench.loading') }}</span>
    <span v-else data-test="ready">{{ t('workbench.ready') }}</span>
  </p>

  <template v-if="sorted && !busy">
    <p v-for="u in sorted.unread" :key="u.name" class="sheet">{{ u.name }}: {{ u.reason }}</p>
    <EntryTable v-if="entries.length" :entries="entries" />
    <div class="columns">
      <PairList :sorted="sorted" />
      <section :aria-label="t('workbench.wrong')">
        <h2>{{ t('workbench.wrong') }}</h2>
        <p v-if="!findings.length" class="sheet">{{ t('findings.none') }}</p>
        <FindingCard v-for="(f, index) in findings" :key="index" :finding="f.finding" :place="f.path" />
      </section>
      <PackPanel
        v-if="entries.length"
        class="wide"
        :inputs="inputs"
        :passwords="passwords"
        :servers="sorted.servers"
        :sorter="sorter"
      />
      <ComparePanel v-if="inputs.length > 1" class="wide" :inputs="inputs" :passwords="passwords" :sorter="sorter" />
    </div>
  </template>
</template>

<script lang="ts" setup>
import { computed, onBeforeUnmount, ref, shallowRef } from 'vue'
import FindingCard from '../findings/FindingCard.vue'
import { severities } from '../findings/severities'
import { t } from '../words/t'
import ComparePanel from './ComparePanel.vue'
import EntryTable from './EntryTable.vue'
import PackPanel from './PackPanel.vue'
import PairList from './PairList.vue'
import { startSorter } from './sorter'
import type { Input, Sorted } from './sorter'

const sorter = startSorter(new Worker(new URL('./worker.ts', import.meta.url), { type: 'module' }))
onBeforeUnmount(() => sorter.stop())

const loaded = ref(false)
const broken = ref('')
sorter.ready.then(
  () => (loaded.value = true),
  (error: Error) => (broken.value = error.message),
)

const inputs = shallowRef<Input[]>([])
const sorted = shallowRef<Sorted>()
const busy = ref(false)
const over = ref(false)
const pasted = ref('')
const password = ref('')
const passwords = computed(() => (password.value ? [password.value] : []))

const entries = computed(() => sorted.value?.files.flatMap((f) => f.entries.map((entry) => ({ path: f.path,
  entry }))) ?? [])
const findings = computed(() =>
  (sorted.value?.files.flatMap((f) => f.findings.map((finding) => ({ path: f.path, finding }))) ?? []).sort(
    (a, b) => severities.indexOf(a.finding.severity) - severities.indexOf(b.finding.severity),
  ),
)
const locked = computed(() => sorted.value?.files.some((f) => f.locked) ?? false)

async function sort() {
  if (!inputs.value.length) return
  busy.value = true
  try {
    sorted.value = await sorter.sort(inputs.value, passwords.value)
    broken.value = ''
  } catch (error) {
    broken.value = (error as Error).message
  } finally {
    busy.value = false
  }
}
async function add(files: Iterable<File>) {
  const read = await Promise.all([...files].map(async (f) => ({ name: f.name,
    bytes: new Uint8Array(await f.arrayBuffer()) })))
  inputs.value = [...inputs.value, ...read]
  await sort()
}
async function handleDrop(event: DragEvent) {
  over.value = false
  await add(event.dataTransfer?.files ?? [])
}
async function handleChoose(event: Event) {
  const field = event.target as HTMLInputElement
  await add(field.files ?? [])
  field.value = ''
}
async function handlePaste() {
  const name = t('workbench.pasted', { n: inputs.value.length + 1 })
  inputs.value = [...inputs.value, { name, bytes: new TextEncoder().encode(pasted.value) }]
  pasted.value = ''
  await sort()
}
function clear() {
  inputs.value = []
  sorted.value = undefined
  password.value = ''
}
</script>

<style scoped>
.promise { margin: 10px 0 12px; border-left: 4px solid var(--sound); }
.entry { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 14px; }
.drop {
  display: grid; place-content: center; gap: 6px; text-align: center; min-height: 120px; border-style: dashed;
  cursor: pointer;
}
.drop.over, .drop:hover { border-color: var(--accent); }
.drop:focus-within { outline: 2px solid var(--accent); outline-offset: 2px; }
.paste { display: grid; gap: 6px; justify-items: start; }
textarea {
  width: 100%; resize: vertical; background: var(--wash); color: inherit; border: 1px solid var(--line);
  border-radius: 3px; padding: 6px;
}
.unlock { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; margin-top: 12px; }
.unlock input {
  font: inherit; color: inherit; background: var(--wash); border: 1px solid var(--line); border-radius: 3px;
  padding: 3px 6px;
}
.status { display: flex; gap: 12px; align-items: center; min-height: 28px; margin: 10px 0; }
.columns {
  display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 18px 24px; align-items: start;
  margin-top: 18px;
}
.wide { grid-column: 1 / -1; min-width: 0; }
@media (max-width: 900px) { .entry, .columns { grid-template-columns: minmax(0, 1fr); } }
</style>
