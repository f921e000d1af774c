<template>
  <section class="pack" :aria-label="t('pack.title')">
    <h2>{{ t('pack.title') }}</h2>
    <form class="sheet choose" @submit.prevent="pack">
      <label>{{ t('pack.for') }}
        <select v-model="target" data-test="pack-for">
          <optgroup :label="t('pack.servers')">
            <option v-for="server in servers" :key="server" :value="`server:${server}`">{{ server }}</option>
          </optgroup>
          <optgroup :label="t('pack.shapes')">
            <option v-for="shape in shapes" :key="shape" :value="`shape:${shape}`">{{ t(`shape.${shape}`) }}</option>
          </optgroup>
        </select>
      </label>
      <label>{{ t('pack.name') }} <input v-model="name" type="text" autocomplete="off" data-test="pack-name" /></label>
      <template v-if="keystore">
        <label>{{ t('pack.password') }}
          <input v-model="password" type="password" autocomplete="new-password" data-test="pack-password" />
        </label>
        <label><input v-model="java" type="checkbox" /> {{ t('pack.java') }}</label>
      </template>
      <el-button size="small" native-type="submit" data-test="pack">{{ t('pack.do') }}</el-button>
    </form>
    <p v-if="failure" class="sheet" role="alert">{{ failure }}</p>
    <div v-if="result" class="sheet" data-test="packed">
      <p v-if="result.refused" class="refused">{{ t('pack.refused', { reason: result.refused }) }}</p>
      <p v-for="file in result.files" :key="file.name" class="file">
        <el-button size="small" data-test="save-packed" @click="save(file)">{{ file.name }}</el-button>
        <span class="soft">{{ file.what }}</span>
      </p>
      <pre v-if="result.lines.length" class="mono">{{ result.lines.join('\n') }}</pre>
      <p v-for="note in result.notes" :key="note" class="soft note">{{ note }}</p>
    </div>
  </section>
</template>

<script lang="ts" setup>
import { computed, ref, shallowRef, watch } from 'vue'
import { t } from '../words/t'
import { saveFile } from './save'
import type { Input, Packed, Sorter } from './sorter'

const shapes = ['bundle', 'split', 'combined', 'pieces', 'keystore', 'der'] as const

const props = defineProps<{ inputs: Input[]; passwords: string[]; servers: string[]; sorter: Sorter }>()
const target = ref('server:nginx')
const name = ref('')
const password = ref('')
const java = ref(false)
const result = shallowRef<Packed>()
const failure = ref('')
const keystore = computed(() => target.value === 'shape:keystore' || target.value === 'server:Tomcat')

watch(() => [props.inputs, target.value], () => (result.value = undefined))

async function pack() {
  const [kind, value = ''] = target.value.split(':')
  try {
    result.value = await props.sorter.pack(props.inputs, props.passwords, {
      name: name.value.trim(),
      server: kind === 'server' ? value : '',
      shape: kind === 'shape' ? value : '',
      java: java.value,
      password: password.value,
    })
    failure.value = ''
  } catch (error) {
    result.value = undefined
    failure.value = (error as Error).message
  }
}
function save(file: Packed['files'][number]) {
  saveFile(file.name, Uint8Array.from(atob(file.data), (c) => c.charCodeAt(0)))
}
</script>

<style scoped>
.choose { display: flex; flex-wrap: wrap; gap: 8px 16px; align-items: center; margin-bottom: 10px; }
.choose label { display: inline-flex; gap: 6px; align-items: center; color: var(--ink-soft); }
select, input[type='text'], input[type='password'] {
  font: inherit; color: var(--ink); background: var(--sheet); border: 1px solid var(--line); border-radius: 3px;
  padding: 3px 6px;
}
.file { display: flex; gap: 10px; align-items: baseline; margin: 0 0 6px; }
pre { margin: 8px 0; white-space: pre-wrap; overflow-wrap: anywhere; }
.note { margin: 4px 0 0; font-size: 12.5px; }
.refused { margin: 0; color: var(--faulty); }
</style>
