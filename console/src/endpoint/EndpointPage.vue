<template>
  <router-link :to="{ name: 'estate' }">← {{ t('endpoint.back') }}</router-link>
  <p v-if="failure" class="sheet" role="alert">{{ failure.status === 404 ? t('endpoint.gone') : failure.words }}</p>
  <template v-if="examination">
    <header class="head">
      <h1>{{ examination.endpoint.endpoint }}</h1>
      <VerdictMark
        class="big"
        :verdict="examination.endpoint.verdict"
        :provisional="examination.endpoint.provisional"
        data-test="verdict"
      />
      <el-button
        v-if="session.may('auditor')"
        size="small"
        :disabled="audits.waited"
        data-test="audit-endpoint"
        @click="audits.start([id])"
        >{{ t('audit.startOne') }}</el-button
      >
      <template v-if="session.may('auditor')">
        <el-button size="small" data-test="change-endpoint" @click="changing = true">{{ t('form.change') }}</el-button>
        <el-popconfirm
          :title="t('form.removeSure')"
          :confirm-button-text="t('form.removeYes')"
          :cancel-button-text="t('findings.leave')"
          width="260"
          @confirm="handleRemove"
        >
          <template #reference>
            <el-button size="small" data-test="remove-endpoint">{{ t('form.remove') }}</el-button>
          </template>
        </el-popconfirm>
      </template>
    </header>
    <EndpointForm
      v-if="changing"
      :of="examination.endpoint"
      @saved="handleSaved"
      @leave="changing = false"
    />
    <dl class="facts">
      <template v-for="fact in facts" :key="fact.title">
        <div>
          <dt>{{ fact.title }}</dt>
          <dd>{{ fact.value }}</dd>
        </div>
      </template>
    </dl>

    <section v-if="examination.endpoint.notes" class="sheet notes" :aria-label="t('endpoint.notes')">{{
      examination.endpoint.notes
    }}</section>
    <section v-if="vantages.length" class="vantages" :aria-label="t('vantages.title')">
      <h2>{{ t('vantages.title') }}</h2>
      <VantageTable :columns="vantages" />
    </section>
    <p v-if="!examination.judgement" class="sheet">{{ t('endpoint.unjudged') }}</p>
    <div v-else class="columns">
      <div class="side">
        <section :aria-label="t('findings.title')">
          <h2>{{ t('findings.title') }}</h2>
          <p v-if="!findings.length" class="sheet">{{ t('findings.none') }}</p>
          <FindingCard v-for="finding in findings" :key="finding.id" :finding="finding">
            <FindingActions v-if="!examination.endpoint.provisional" :finding="finding" @changed="load" />
          </FindingCard>
        </section>
        <section v-if="coverage?.certificates?.length" :aria-label="t('coverage.title')">
          <h2>{{ t('coverage.title') }}</h2>
          <CoverageMatrix :coverage="coverage" />
        </section>
        <LeafDetails v-if="leaf" :certificate="leaf" />
      </div>
      <div class="side">
        <section :aria-label="t('protocol.title')">
          <h2>{{ t('protocol.title') }}</h2>
          <ProtocolTable :shown="examination.judgement.shown ?? []" />
        </section>
        <section v-if="wired.length" :aria-label="t('wire.title')">
          <h2>{{ t('wire.title') }}</h2>
          <WireTables
            v-for="x in wired"
            :key="x.shown.address"
            :observation="x.observation"
            :shown="x.shown"
            :several="wired.length > 1"
          />
        </section>
      </div>
    </div>
    <section v-if="deployments.length" class="chains" :aria-label="t('deployment.title')">
      <h2>{{ t('deployment.title') }}</h2>
      <DeploymentTable :deployments="deployments" />
    </section>
    <section v-if="examination.judgement" class="chains" :aria-label="t('chain.title')">
      <h2>{{ t('chain.title') }}</h2>
      <p v-if="!examination.judgement.chains?.length" class="sheet">{{ t('chain.none') }}</p>
      <template v-for="(chain, index) in examination.judgement.chains" :key="index">
        <ChainDrawing
          :chain="chain"
          :several="(examination.judgement.chains?.length ?? 0) > 1"
          :certificates="examination.judgement.certificates ?? []"
        />
        <template v-if="chain.audiences?.length">
          <h2>{{ t('audience.title') }}</h2>
          <AudienceTable :chain="chain" :certificates="examination.judgement.certificates ?? []" />
        </template>
      </template>
    </section>
    <HistoryList v-if="examination.judgement" :id="id" :audit="examination.endpoint.audit_id" />
  </template>
</template>

<script lang="ts" setup>
import { computed, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, asJSON, ifMatch, result } from '../api/client'
import { useAudits } from '../audits/audits'
import FindingActions from '../findings/FindingActions.vue'
import FindingCard from '../findings/FindingCard.vue'
import VerdictMark from '../look/VerdictMark.vue'
import { useSession } from '../people/session'
import { daysUntil, daysWords, moment, t } from '../words/t'
import AudienceTable from './AudienceTable.vue'
import ChainDrawing from './ChainDrawing.vue'
import CoverageMatrix from './CoverageMatrix.vue'
import DeploymentTable from './DeploymentTable.vue'
import EndpointForm from './EndpointForm.vue'
import HistoryList from './HistoryList.vue'
import LeafDetails from './LeafDetails.vue'
import ProtocolTable from './ProtocolTable.vue'
import VantageTable from './VantageTable.vue'
import WireTables from './WireTables.vue'
import { placeOf, vantageColumns } from './vantages'
import type { Coverage, DNSRecords, Examination, Failure, TLSARecord } from '../api/client'

const props = defineProps<{ id: number }>()
const audits = useAudits()
const session = useSession()
const examination = ref<Examination>()
const failure = ref<Failure>()
const coverage = ref<Coverage>()
const changing = ref(false)
const router = useRouter()

async function load() {
  const asked = props.id
  const params = { params: { path: { id: asked } } }
  const [answer, covered] = await Promise.all([
    result(api.GET('/api/v1/endpoints/{id}', params)),
    result(api.GET('/api/v1/endpoints/{id}/coverage', params)),
  ])
  if (asked !== props.id) return
  coverage.value = covered.ok ? covered.value : undefined
  failure.value = answer.ok ? undefined : answer.failure
  examination.value = answer.ok ? answer.value : undefined
}
onMounted(load)

function handleSaved() {
  changing.value = false
  return load()
}

async function handleRemove() {
  const params = { path: { id: props.id }, header: ifMatch(examination.value?.endpoint.tag) }
  const answer = await result(api.DELETE('/api/v1/endpoints/{id}', { params, ...asJSON }))
  if (answer.ok) await router.push({ name: 'estate' })
  else failure.value = answer.failure
}
watch(() => [props.id, audits.ended], load)

const findings = computed(() => examination.value?.findings ?? [])
const deployments = computed(() => examination.value?.judgement?.deployments ?? [])
const vantages = computed(() => (examination.value ? vantageColumns(examination.value) : []))
/** What each address showed, beside its facts, where suites are known. */
const wired = computed(() =>
  (examination.value?.judgement?.shown ?? []).flatMap((shown) => {
    const observation = examination.value?.facts?.observations?.find((o) => placeOf(o) === shown.address)
    return observation && shown.suites?.length ? [{ shown, observation }] : []
  }),
)
const leaf = computed(() => {
  const judgement = examination.value?.judgement
  return judgement?.certificates?.find((c) => c.sha256 === judgement.leaf)
})
const facts = computed(() => {
  const x = examination.value
  if (!x) return []
  const { endpoint } = x
  const addresses = x.facts?.observations?.map(placeOf) ?? []
  return [
    { title: t('endpoint.issuer'), value: endpoint.issuer },
    {
      title: t('endpoint.expires'),
      value: endpoint.not_after && `${moment(endpoint.not_after)} (${daysWords(daysUntil(endpoint.not_after))})`,
    },
    { title: t('endpoint.addresses'), value: list(addresses) },
    { title: t('endpoint.unvisited'), value: list(x.facts?.unvisited) && t('endpoint.partly', {
      places: list(x.facts?.unvisited) }) },
    { title: t('endpoint.trust'), value: list(endpoint.trust) ||
      (endpoint.audiences?.length ? '' : t('endpoint.system')) },
    { title: t('endpoint.vantages'), value: list(endpoint.vantages) },
    { title: t('endpoint.audiences'), value: list(endpoint.audiences) },
    { title: t('endpoint.policy'), value: endpoint.judged_by ?? '' },
    { title: t('form.schedule'), value: endpoint.schedule ?? '' },
    { title: t('endpoint.owner'), value: endpoint.owner ?? '' },
    {
      title: t('endpoint.labels'),
      value: Object.entries(endpoint.labels ?? {}).map(([key, value]) => `${key}: ${value}`).join(', '),
    },
    { title: t('endpoint.caa'), value: list(x.facts?.dns?.caa?.map((r) => `${r.tag} "${r.value}"`)) },
    { title: t('endpoint.tlsa'), value: tlsaWords(x.facts?.dns) },
    { title: t('endpoint.judged'), value: moment(endpoint.judged_at) },
  ].filter((fact) => fact.value)
})

const list = (names: string[] | null | undefined) => names?.join(', ') ?? ''

function tlsaWords(dns: DNSRecords | undefined) {
  const word = dns?.validated ? 'endpoint.tlsaValidated' : 'endpoint.tlsaPlain'
  const parts = (r: TLSARecord) => ({
    usage: String(r.usage),
    selector: String(r.selector),
    matching: String(r.matching),
  })
  return list(dns?.tlsa?.map((r) => t(word, parts(r))))
}
</script>

<style scoped>
.head { display: flex; flex-wrap: wrap; align-items: center; gap: 8px 18px; margin: 6px 0 10px; }
.big { font-size: 16px; }
.facts { display: flex; flex-wrap: wrap; gap: 6px 28px; margin: 0 0 18px; }
dt { font-size: 12px; color: var(--ink-soft); }
dd { margin: 0; overflow-wrap: anywhere; }
.columns { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1.15fr); gap: 20px 24px; align-items: start; }
.chains { display: grid; grid-template-columns: minmax(0, 1fr); gap: 10px; margin-top: 22px; }
.chains h2 { margin: 8px 0 0; }
.vantages { margin-bottom: 22px; }
.notes { white-space: pre-line; margin: 0 0 18px; overflow-wrap: anywhere; }
.side { display: grid; grid-template-columns: minmax(0, 1fr); gap: 18px; min-width: 0; }
@media (max-width: 900px) { .columns { grid-template-columns: minmax(0, 1fr); } }
</style>
