<template>
  <div class="actions">
    <p v-if="finding.acknowledged" class="seen" data-test="seen">
      {{ t('findings.seen', { by: finding.acknowledged.by, when: finding.acknowledged.at.slice(0, 10) }) }}
      {{ finding.acknowledged.note }}
    </p>
    <p v-if="may && !open">
      <el-button v-if="!finding.acknowledged" size="small" data-test="acknowledge" @click="open = 'acknowledge'">
        {{ t('findings.acknowledge') }}
      </el-button>
      <el-button v-else size="small" data-test="forget" @click="handleForget">{{ t('findings.forget') }}</el-button>
      <el-button v-if="!finding.waived" size="small" data-test="waive" @click="open = 'waive'">
        {{ t('findings.waive') }}
      </el-button>
      <router-link v-else-if="finding.waived.by" :to="{ name: 'waivers' }">{{ t('waivers.title') }}</router-link>
    </p>
    <el-form v-if="open === 'acknowledge'" label-position="top" @submit.prevent="handleAcknowledge">
      <el-form-item :label="t('findings.note')">
        <el-input v-model="form.text" maxlength="2000" data-test="note" />
      </el-form-item>
      <el-button native-type="submit" size="small" data-test="do">{{ t('findings.acknowledge') }}</el-button>
      <el-button size="small" @click="open = undefined">{{ t('findings.leave') }}</el-button>
    </el-form>
    <el-form v-if="open === 'waive'" label-position="top" @submit.prevent="handleWaive">
      <el-form-item :label="t('waivers.reason')">
        <el-input v-model="form.text" maxlength="2000" data-test="reason" />
      </el-form-item>
      <el-form-item :label="t('waivers.until')">
        <el-date-picker
          v-model="form.until"
          value-format="YYYY-MM-DD"
          :disabled-date="(day: Date) => day.getTime() < Date.now() - 86_400_000"
          data-test="until"
        />
      </el-form-item>
      <p class="soft hint">{{ t('waivers.hint', { code: finding.code }) }}</p>
      <el-button native-type="submit" size="small" :disabled="!form.text || !form.until" data-test="do">
        {{ t('findings.waive') }}
      </el-button>
      <el-button size="small" @click="open = undefined">{{ t('findings.leave') }}</el-button>
    </el-form>
    <p v-if="failure" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
  </div>
</template>

<script lang="ts" setup>
import { computed, reactive, ref } from 'vue'
import { api, asJSON, result } from '../api/client'
import { useSession } from '../people/session'
import { t } from '../words/t'
import type { Failure, Finding, Result } from '../api/client'

const props = defineProps<{ finding: Finding }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const may = computed(() => session.may('auditor'))
const open = ref<'acknowledge' | 'waive'>()
const form = reactive({ text: '', until: '' })
const failure = ref<Failure>()

function done(answer: Result<unknown>) {
  failure.value = answer.ok ? undefined : answer.failure
  if (!answer.ok) return
  open.value = undefined
  Object.assign(form, { text: '', until: '' })
  emit('changed')
}

const path = () => ({ path: { id: props.finding.id } })

async function handleAcknowledge() {
  const body = { note: form.text }
  done(await result(api.PUT('/api/v1/findings/{id}/acknowledgement', { params: path(), body })))
}

async function handleForget() {
  done(await result(api.DELETE('/api/v1/findings/{id}/acknowledgement', { params: path(), ...asJSON })))
}

async function handleWaive() {
  const { code, endpoint_id, holding_id } = props.finding
  const about = endpoint_id ? { endpoint_id } : { holding_id: holding_id! }
  done(await result(api.POST('/api/v1/waivers', { body: { code, reason: form.text, until: form.until, ...about } })))
}
</script>

<style scoped>
.actions { margin-top: 6px; font-size: 13px; }
.actions p { margin: 0 0 6px; }
.actions :deep(.el-form-item) { margin-bottom: 8px; }
.hint { font-size: 12.5px; }
.seen { font-weight: 600; overflow-wrap: anywhere; }
</style>
