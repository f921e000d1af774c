<template>
  <h1>{{ t('proposals.title') }}</h1>
  <p class="soft">{{ t('proposals.what') }}</p>
  <NetworkSearch @ended="load" />
  <p v-if="failure" class="sheet" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
  <p v-if="done" class="sheet" role="status" data-test="done">{{ t('proposals.done', done) }}</p>
  <p v-if="items && !items.length && !others" class="sheet" data-test="none">{{ t('proposals.none') }}</p>
  <el-form
    v-if="items?.length && session.may('auditor')"
    class="sheet row"
    label-position="top"
    @submit.prevent="accept"
  >
    <el-form-item :label="t('many.owner')">
      <el-input v-model="form.owner" maxlength="200" data-test="owner" />
    </el-form-item>
    <el-form-item :label="t('endpoint.trust')">
      <el-input v-model="form.trust" :placeholder="t('endpoint.system')" data-test="trust" />
    </el-form-item>
    <el-button type="primary" native-type="submit" :disabled="busy || !chosen.length" data-test="accept">
      {{ chosen.length ? t('proposals.acceptSome', { count: chosen.length }) : t('proposals.accept') }}
    </el-button>
    <el-button :disabled="busy || !chosen.length" data-test="dismiss" @click="dismiss">
      {{ t('proposals.dismiss') }}
    </el-button>
  </el-form>
  <div v-if="items?.length" class="sheet listing">
    <table v-folding>
      <thead>
        <tr>
          <th v-if="session.may('auditor')">
            <el-checkbox
              :model-value="chosen.length === items.length"
              :aria-label="t('proposals.all')"
              data-test="all"
              @change="chosen = chosen.length === items.length ? [] : items.map((one) => one.endpoint)"
            />
          </th>
          <th>{{ t('estate.endpoint') }}</th>
          <th>{{ t('proposals.met') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in items" :key="one.endpoint" data-test="proposal">
          <td v-if="session.may('auditor')">
            <el-checkbox
              :model-value="chosen.includes(one.endpoint)"
              :aria-label="t('proposals.choose', { endpoint: one.endpoint })"
              data-test="choose"
              @change="toggle(one.endpoint)"
            />
          </td>
          <td>{{ one.endpoint }}</td>
          <td>
            <div v-for="(source, i) in one.sources?.slice(0, shown)" :key="i">{{ sourceWords(source) }}</div>
            <div v-if="one.places > shown" class="soft">{{ t('proposals.more', { count: one.places - shown }) }}</div>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-if="others" class="soft">{{ t('proposals.others') }}</p>
</template>

<script lang="ts" setup>
import { onMounted, reactive, ref } from 'vue'
import { api, result } from '../api/client'
import { vFolding } from '../look/folding'
import { useSession } from '../people/session'
import { t } from '../words/t'
import NetworkSearch from './NetworkSearch.vue'
import type { Failure, Proposal, ProposalAnswer } from '../api/client'

const shown = 3 // places of one proposal
const session = useSession()
const items = ref<Proposal[]>()
const others = ref(false)
const chosen = ref<string[]>([])
const failure = ref<Failure>()
const busy = ref(false)
const done = ref<{ added: number; dismissed: number }>()
const form = reactive({ owner: '', trust: '' })

async function load() {
  const answer = await result(api.GET('/api/v1/proposals'))
  failure.value = answer.ok ? undefined : answer.failure
  if (!answer.ok) return
  items.value = answer.value.items ?? []
  others.value = answer.value.more ?? false
}
onMounted(load)

function toggle(endpoint: string) {
  chosen.value = chosen.value.includes(endpoint)
    ? chosen.value.filter((one) => one !== endpoint)
    : [...chosen.value, endpoint]
}

async function send(body: ProposalAnswer) {
  busy.value = true
  const answer = await result(api.POST('/api/v1/proposals', { body }))
  busy.value = false
  done.value = answer.ok ? answer.value : undefined
  if (answer.ok) {
    chosen.value = []
    await load()
  } else {
    failure.value = answer.failure
  }
}

function accept() {
  const owner = form.owner.trim()
  const trust = form.trust.split(/[\s,]+/).filter(Boolean)
  return send({ accept: chosen.value, set: { ...(owner && { owner }), ...(trust.length && { trust }) } })
}

function dismiss() {
  return send({ dismiss: chosen.value })
}

function sourceWords(source: NonNullable<Proposal['sources']>[number]): string {
  const place = `${source.holding}:${source.path}${source.line ? `:${source.line}` : ''}`
  if (source.server) return t('proposals.configured', { server: source.server, place })
  if (source.address) return t('proposals.answered', { address: source.address })
  if (source.endpoint) return t('proposals.served', { endpoint: source.endpoint })
  return t('proposals.file', { place })
}
</script>

<style scoped>
.sheet { margin-bottom: 14px; }
.row { display: flex; flex-wrap: wrap; gap: 12px 18px; align-items: end; }
.row :deep(.el-form-item) { margin-bottom: 0; width: 220px; }
td { overflow-wrap: anywhere; }
.listing :deep(.el-checkbox) { height: auto; }
</style>
