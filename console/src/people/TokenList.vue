<template>
  <section class="sheet">
    <h2>{{ t('token.title') }}</h2>
    <p class="soft">{{ t('token.what') }}</p>
    <el-form class="row" label-position="top" @submit.prevent="handleAdd">
      <el-form-item :label="t('token.name')">
        <el-input v-model="form.name" :placeholder="t('token.example')" data-test="token-name" />
      </el-form-item>
      <el-form-item :label="t('people.role')">
        <el-select v-model="form.role" data-test="token-role">
          <el-option v-for="role in roles" :key="role" :value="role" :label="t(`role.${role}`)" />
        </el-select>
      </el-form-item>
      <el-form-item v-if="form.role === 'worker'" :label="t('token.vantage')">
        <el-input v-model="form.vantage" data-test="token-vantage" />
      </el-form-item>
      <el-form-item v-else :label="t('token.label')">
        <el-input v-model="form.label" :placeholder="t('token.everything')" data-test="token-label" />
      </el-form-item>
      <el-form-item :label="t('token.days')">
        <el-input-number v-model="form.days" :min="1" :max="3650" :placeholder="t('token.never')" />
      </el-form-item>
      <el-button native-type="submit" :disabled="!form.name" data-test="add-token">{{ t('token.add') }}</el-button>
    </el-form>
    <p v-if="made" class="made" role="status">
      {{ t('token.once') }} <code class="mono" data-test="secret">{{ made }}</code>
    </p>
    <p v-if="failure" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
    <div v-if="tokens?.length" class="listing">
      <table v-folding>
        <thead>
          <tr>
            <th>{{ t('token.name') }}</th>
            <th>{{ t('token.owner') }}</th>
            <th>{{ t('people.role') }}</th>
            <th>{{ t('token.prefix') }}</th>
            <th>{{ t('token.expires') }}</th>
            <th>{{ t('token.used') }}</th>
            <th><span class="hidden-text">{{ t('people.actions') }}</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="token in tokens" :key="token.id" data-test="token">
            <td>{{ token.name }}</td>
            <td>{{ token.owner }}</td>
            <td>
              {{ t(`role.${token.role}`) }}
              <span v-if="token.label" class="soft">{{ t('token.of', { label: token.label }) }}</span>
              <span v-if="token.vantage" class="soft">{{ t('token.at', { vantage: token.vantage }) }}</span>
            </td>
            <td class="mono">{{ token.prefix }}…</td>
            <td class="nowrap">{{ token.expires_at ? moment(token.expires_at) : t('token.never') }}</td>
            <td class="nowrap">{{ moment(token.used_at) }}</td>
            <td>
              <el-button size="small" @click="handleRemove(token.id)">{{ t('token.remove') }}</el-button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<script lang="ts" setup>
import { computed, onMounted, reactive, ref } from 'vue'
import { api, asJSON, result } from '../api/client'
import { vFolding } from '../look/folding'
import { moment, t } from '../words/t'
import { useSession } from './session'
import type { Failure, Token } from '../api/client'

const session = useSession()
interface Form {
  name: string
  role: Token['role']
  label: string
  vantage: string
  days: number | undefined
}
const form = reactive<Form>({
  name: '',
  role: 'viewer',
  label: '',
  vantage: '',
  days: undefined,
})
const tokens = ref<Token[]>()
const made = ref('')
const failure = ref<Failure>()
/** What the caller can give: roles up to the own one, and those for one purpose. */
const roles = computed(() => {
  const out: Token['role'][] = ['viewer']
  if (session.may('auditor')) out.push('auditor', 'collect')
  if (session.may('administrator')) out.push('administrator', 'metrics', 'worker')
  return out
})

async function load() {
  const answer = await result(api.GET('/api/v1/tokens'))
  failure.value = answer.ok ? undefined : answer.failure
  if (answer.ok) tokens.value = answer.value ?? []
}
onMounted(load)

async function handleAdd() {
  const worker = form.role === 'worker'
  const label = worker ? '' : form.label.trim()
  const vantage = worker ? form.vantage.trim() : ''
  const { name, role, days } = form
  const body = { name, role, ...(label && { label }), ...(vantage && { vantage }), ...(days && { days }) }
  const answer = await result(api.POST('/api/v1/tokens', { body }))
  failure.value = answer.ok ? undefined : answer.failure
  made.value = answer.ok ? answer.value.secret : ''
  if (!answer.ok) return
  Object.assign(form, { name: '', label: '', vantage: '' })
  await load()
}

async function handleRemove(id: number) {
  const answer = await result(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } }, ...asJSON }))
  failure.value = answer.ok ? undefined : answer.failure
  if (answer.ok) await load()
}
</script>

<style scoped>
.row { display: flex; flex-wrap: wrap; gap: 12px 18px; align-items: end; margin-bottom: 12px; }
.row :deep(.el-form-item) { margin-bottom: 0; width: 220px; }
.made { overflow-wrap: anywhere; border-left: 3px solid var(--accent); padding-left: 10px; }
</style>
