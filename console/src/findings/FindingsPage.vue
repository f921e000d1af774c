<template>
  <h1>{{ t('findings.title') }}</h1>
  <p class="soft">{{ t('causes.what') }}</p>
  <div class="tools">
    <el-select v-model="query.severity" class="choose" :aria-label="t('causes.severity')" data-test="severity">
      <el-option value="all" :label="t('causes.all')" />
      <el-option v-for="one in severities" :key="one" :value="one" :label="t(`severity.${one}`)" />
    </el-select>
    <el-input
      v-model="query.q"
      class="search"
      clearable
      :placeholder="t('causes.search')"
      :aria-label="t('causes.search')"
      data-test="search"
    />
    <el-input
      v-model="query.owner"
      class="of"
      clearable
      :placeholder="t('causes.owner')"
      :aria-label="t('causes.owner')"
      data-test="owner"
    />
    <el-input
      v-model="query.label"
      class="of"
      clearable
      :placeholder="t('causes.label')"
      :aria-label="t('causes.label')"
      data-test="label"
    />
    <el-checkbox v-model="query.waived" data-test="waived-only">{{ t('causes.waived') }}</el-checkbox>
  </div>
  <p v-if="failure" class="sheet" role="alert">{{ failure.words }}</p>
  <p v-else-if="causes && !causes.length" class="sheet" data-test="none">{{ t('causes.none') }}</p>
  <article
    v-for="cause in causes"
    :key="keyOf(cause)"
    class="sheet cause"
    :data-severity="cause.severity"
    data-test="cause"
  >
    <p class="top">
      <SeverityWord :severity="cause.severity" />
      <span class="mono">{{ cause.code }}</span>
      <b data-test="where">{{ whereWords(cause) }}</b>
      <span v-if="cause.acknowledged" class="soft">{{ t('causes.seen', { n: cause.acknowledged }) }}</span>
      <span class="soft since">{{ t('causes.since', { when: cause.first_seen.slice(0, 10) }) }}</span>
    </p>
    <p class="message">{{ causeWords(cause) }}</p>
    <p class="remedy"><b>{{ t('findings.do') }}:</b> {{ cause.remedy }}</p>
    <el-button size="small" :aria-expanded="open === keyOf(cause)" data-test="open" @click="toggle(cause)">
      {{ t(open === keyOf(cause) ? 'causes.close' : 'causes.open') }}
    </el-button>
    <div v-if="open === keyOf(cause)" class="findings">
      <p v-if="!findings" class="soft">{{ t('causes.loading') }}</p>
      <FindingCard v-for="finding in findings" :key="finding.id" :finding="finding" data-test="finding">
        <p>
          <router-link v-if="finding.endpoint_id" :to="{ name: 'endpoint', params: { id: finding.endpoint_id } }">{{
            finding.endpoint
          }}</router-link>
          <router-link
            v-else-if="finding.holding_id"
            :to="{ name: 'holding', params: { id: finding.holding_id } }"
            >{{ finding.holding }}:{{ finding.path }}</router-link
          >
        </p>
        <FindingActions :finding="finding" @changed="reload" />
      </FindingCard>
      <p v-if="more" class="soft">{{ t('causes.more') }}</p>
    </div>
  </article>
  <p v-if="next"><el-button data-test="more" @click="load(next)">{{ t('estate.more') }}</el-button></p>
</template>

<script lang="ts" setup>
import { onMounted, onUnmounted, reactive, ref, watch } from 'vue'
import { api, result } from '../api/client'
import { useAudits } from '../audits/audits'
import { t } from '../words/t'
import { causeWords, keyOf, whereWords } from './causes'
import FindingActions from './FindingActions.vue'
import FindingCard from './FindingCard.vue'
import SeverityWord from './SeverityWord.vue'
import { severities } from './severities'
import type { Cause, Failure, Finding } from '../api/client'
import type { Severity } from './severities'

const audits = useAudits()
interface Query {
  severity: Severity | 'all'
  q: string
  owner: string
  label: string
  waived: boolean
}
const props = defineProps<{ owner?: string; label?: string }>() // with which the page begins
const query = reactive<Query>({
  severity: 'all',
  q: '',
  owner: props.owner ?? '',
  label: props.label ?? '',
  waived: false,
})
const causes = ref<Cause[]>()
const next = ref<string>()
const failure = ref<Failure>()
const open = ref<string>()
const findings = ref<Finding[]>()
const more = ref(false)

const given = () => ({
  ...(query.severity !== 'all' ? { severity: query.severity } : {}),
  ...(query.q.trim() ? { q: query.q.trim() } : {}),
  ...(query.owner.trim() ? { owner: query.owner.trim() } : {}),
  // What somebody has not typed to the end yet is no label.
  ...(/^[^=]+=/.test(query.label.trim()) ? { label: query.label.trim() } : {}),
})

let asked = 0
async function load(cursor?: string) {
  const turn = ++asked
  const all = { ...given(), ...(query.waived ? { waived: true } : {}), ...(cursor ? { cursor } : {}) }
  const answer = await result(api.GET('/api/v1/causes', { params: { query: all } }))
  if (turn !== asked) return // another question was asked meanwhile
  failure.value = answer.ok ? undefined : answer.failure
  if (!answer.ok) return
  causes.value = [...(cursor ? (causes.value ?? []) : []), ...(answer.value.items ?? [])]
  next.value = answer.value.next
}
onMounted(() => load())
// While somebody types, only what they have typed in the end is asked for.
let timer: ReturnType<typeof setTimeout> | undefined
watch(query, () => {
  open.value = undefined
  clearTimeout(timer)
  timer = setTimeout(load, 200)
})
onUnmounted(() => clearTimeout(timer))
watch(() => audits.ended, () => load())

async function toggle(cause: Cause) {
  open.value = open.value === keyOf(cause) ? undefined : keyOf(cause)
  findings.value = undefined
  if (open.value) await show(cause)
}

async function show(cause: Cause) {
  const of = cause.id ? { cause: cause.id } : { code: cause.code }
  const waived = query.waived ? ('yes' as const) : ('no' as const)
  const answer = await result(api.GET('/api/v1/findings', { params: { query: { ...given(), ...of, waived } } }))
  failure.value = answer.ok ? undefined : answer.failure
  if (!answer.ok || open.value !== keyOf(cause)) return
  findings.value = answer.value.items ?? []
  more.value = !!answer.value.next
}

async function reload() {
  await load()
  const shown = causes.value?.find((cause) => keyOf(cause) === open.value)
  if (shown) await show(shown)
  else open.value = undefined
}
</script>

<style scoped>
.tools { display: flex; flex-wrap: wrap; gap: 12px; align-items: center; margin-bottom: 14px; }
.choose { width: 180px; }
.search { width: 260px; margin-left: 0; }
.of { width: 170px; }
.cause { margin-bottom: 10px; border-left: 4px solid var(--line); }
.cause[data-severity='fault'] { border-left-color: var(--faulty); }
.cause[data-severity='risk'] { border-left-color: var(--at-risk); }
.cause p { margin: 0 0 6px; overflow-wrap: anywhere; }
.top { display: flex; flex-wrap: wrap; gap: 4px 10px; align-items: baseline; }
.since { margin-left: auto; font-size: 12.5px; }
.message { font-size: 15px; }
.findings { margin-top: 10px; }
</style>
