<template>
  <section class="sheet door">
    <h1>{{ t('setUp.title') }}</h1>
    <p class="soft">{{ t('setUp.what') }}</p>
    <p v-if="!code" role="alert">{{ t('setUp.noCode') }}</p>
    <el-form v-else label-position="top" @submit.prevent="handleSetUp">
      <el-form-item :label="t('people.name')">
        <el-input v-model="form.name" autocomplete="username" autofocus data-test="name" />
      </el-form-item>
      <el-form-item :label="t('signIn.password')">
        <el-input v-model="form.password" type="password" autocomplete="new-password" data-test="password" />
        <p class="soft hint">{{ t('people.passwordRule') }}</p>
      </el-form-item>
      <el-form-item :label="t('people.again')" :error="differs ? t('people.differs') : ''">
        <el-input v-model="form.again" type="password" autocomplete="new-password" data-test="again" />
      </el-form-item>
      <p v-if="failure" role="alert" class="failure">{{ failure.words }} {{ failure.details.join('; ') }}</p>
      <el-button
        type="primary"
        native-type="submit"
        :disabled="busy || !form.name || !form.password || form.again !== form.password"
        data-test="set-up"
      >
        {{ t('setUp.do') }}
      </el-button>
    </el-form>
  </section>
</template>

<script lang="ts" setup>
import { computed, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'
import { t } from '../words/t'
import { useSession } from './session'
import type { Failure } from '../api/client'

const session = useSession()
const router = useRouter()
const code = globalThis.location.hash.slice(1)
const form = reactive({ name: '', password: '', again: '' })
const failure = ref<Failure>()
const busy = ref(false)
const differs = computed(() => form.again !== '' && form.again !== form.password)

async function handleSetUp() {
  busy.value = true
  failure.value = await session.setUp(code, form.name, form.password)
  busy.value = false
  if (!failure.value) await router.replace({ name: 'estate' })
}
</script>

<style scoped>
.door { max-width: 460px; margin: 48px auto; }
.hint { margin: 2px 0 0; font-size: 12.5px; }
.failure { color: var(--faulty); font-weight: 600; }
</style>
