<template>
  <section v-if="list?.allowed?.length" class="sheet" data-test="search">
    <h2>{{ t('search.title') }}</h2>
    <p class="soft">{{ t('search.what') }}</p>
    <el-form v-if="session.may('auditor')" class="row" label-position="top" @submit.prevent="start">
      <el-form-item :label="t('search.network')">
        <el-select
          v-model="form.networks"
          multiple
          filterable
          allow-create
          default-first-option
          :placeholder="t('search.all')"
          data-test="networks"
        >
          <el-option v-for="one in list.allowed" :key="one.network" :value="one.network" />
        </el-select>
      </el-form-item>
      <el-form-item :label="t('search.ports')">
        <el-select v-model="form.ports" multiple :placeholder="t('search.allPorts')" data-test="ports">
          <el-option v-for="port in ports" :key="port" :value="port" />
        </el-select>
      </el-form-item>
      <el-button native-type="submit" :disabled="busy || !!running" data-test="start">
        {{ t('search.start') }}
      </el-button>
    </el-form>
    <p v-if="wrong" role="alert">{{ wrong }}</p>
    <div v-if="running" class="running" aria-live="polite">
      <el-progress
        class="progress"
        :percentage="Math.floor((100 * running.done) / running.size)"
        :show-text="false"
        :stroke-width="8"
        :aria-label="t('search.title')"
      />
      <span>{{ words(running) }}</span>
      <el-button v-if="session.may('auditor')" size="small" data-test="cancel" @click="cancel(running.id)">
        {{ t('search.cancel') }}
      </el-button>
    </div>
    <p v-else-if="last" class="soft" data-test="last">{{ words(last) }}</p>
  </section>
</template>

<script lang="ts" setup>
import { computed, onMounted, onUnmounted, reactive, ref } from 'vue'
import { api, asJSON, result } from '../api/client'
import { useSession } from '../people/session'
import { t } from '../words/t'
import type { NetworkSearch, NetworkSearches } from '../api/client'

const emit = defineEmits<{ ended: [] }>()
const session = useSession()
const list = ref<NetworkSearches>()
const wrong = ref('')
const busy = ref(false)
const form = reactive<{ networks: string[]; ports: number[] }>({ networks: [], ports: [] })
const refresh = 1500 // milliseconds between two looks at a search that is under way

const last = computed(() => list.value?.items?.[0])
const running = computed(() => (last.value?.state === 'searching' ? last.value : undefined))
const ports = computed(() =>
  [...new Set(list.value?.allowed?.flatMap((one) => one.ports ?? []))].sort((a, b) => a - b),
)

let timer: ReturnType<typeof setTimeout> | undefined
async function load() {
  clearTimeout(timer)
  const before = running.value
  const answer = await result(api.GET('/api/v1/searches'))
  if (answer.ok) list.value = answer.value
  if (before && !running.value) emit('ended')
  if (running.value) timer = setTimeout(load, refresh)
}
onMounted(load)
onUnmounted(() => clearTimeout(timer))

async function start() {
  busy.value = true
  const { networks, ports } = form
  const body = { ...(networks.length && { networks }), ...(ports.length && { ports }) }
  const answer = await result(api.POST('/api/v1/searches', { body }))
  busy.value = false
  wrong.value = answer.ok ? '' : answer.failure.details.join('; ') || answer.failure.words
  await load()
}

async function cancel(id: number) {
  const answer = await result(api.POST('/api/v1/searches/{id}/cancel', { params: { path: { id } }, ...asJSON }))
  wrong.value = answer.ok ? '' : answer.failure.words
  await load()
}

function words(one: NetworkSearch): string {
  const networks = one.ranges?.map((range) => range.network).join(', ') ?? ''
  const { by, size, done, found, others, failure = '' } = one
  if (one.state === 'searching') return t('search.running', { networks, done, size, found })
  const when = one.created_at.slice(0, 16).replace('T', ' ')
  const key = one.state === 'failed' ? 'search.failed' : one.state === 'cancelled' ? 'search.cancelled' : 'search.last'
  return t(key, { by, size, done, found, others, failure, networks, when })
}
</script>

<style scoped>
.sheet { margin-bottom: 14px; }
.row { display: flex; flex-wrap: wrap; gap: 12px 18px; align-items: end; }
.row :deep(.el-form-item) { margin-bottom: 0; width: 280px; }
.running { display: flex; flex-wrap: wrap; align-items: center; gap: 12px; margin-top: 12px; }
.progress { width: 180px; }
h2 { margin-top: 0; }
</style>
