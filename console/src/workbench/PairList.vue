<template>
  <section :aria-label="t('workbench.together')">
    <h2>{{ t('workbench.together') }}</h2>
    <p v-if="!sets.length" class="sheet">{{ t('workbench.nothingTogether') }}</p>
    <article v-for="set in sets" :key="set.spki" class="sheet set" data-test="set">
      <p class="title">
        <b>{{ set.title }}</b> <span class="soft">{{ set.key }}</span>
      </p>
      <p v-if="!set.members.length" class="soft note">{{ t('workbench.alone') }}</p>
      <ul>
        <li v-for="(member, index) in set.members" :key="index">
          <span class="soft kind">{{ t(`material.${member.kind}`) }}</span> {{ member.path
          }}<template v-if="member.alias"> “{{ member.alias }}”</template>
          <span v-if="member.valid" class="good">{{ t('workbench.validNow') }}</span>
        </li>
      </ul>
      <p v-if="set.parts.length" class="parts">
        {{ t('workbench.save') }}
        <el-button
          v-for="part in set.parts"
          :key="part.name"
          size="small"
          :title="part.note"
          :data-test="`save-${part.what}`"
          @click="save(part)"
        >
          {{ part.name }}
        </el-button>
      </p>
      <p v-for="part in set.parts.filter((p) => p.note)" :key="part.name" class="soft note">
        {{ part.name }}: {{ part.note }}
      </p>
    </article>
    <template v-if="sorted.unpaired.length">
      <h2 class="apart">{{ t('workbench.leftOver') }}</h2>
      <ul class="sheet">
        <li v-for="(member, index) in sorted.unpaired" :key="index">
          <span class="soft kind">{{ t(`material.${member.kind as MaterialKind}`) }}</span> {{ member.path }}
          <b v-if="member.label">{{ member.label }}</b>
          <span class="soft why">{{ member.why }}</span>
        </li>
      </ul>
    </template>
    <template v-if="sorted.successions.length">
      <h2 class="apart">{{ t('workbench.followed') }}</h2>
      <ul class="sheet">
        <li v-for="(succession, index) in sorted.successions" :key="index">
          <b>{{ succession.names.join(', ') }}</b>
          <div v-for="step in succession.steps" :key="step.paths.join()" class="soft">
            {{ step.certificate.not_before?.slice(0, 10) }}: {{ step.paths.join(', ') }}
          </div>
        </li>
      </ul>
    </template>
  </section>
</template>

<script lang="ts" setup>
import { computed } from 'vue'
import { t } from '../words/t'
import { setsOf } from './sets'
import { saveFile } from './save'
import type { MaterialKind } from './sets'
import type { Part, Sorted } from './sorter'

const props = defineProps<{ sorted: Sorted }>()
const sets = computed(() => setsOf(props.sorted))

function save(part: Part) {
  saveFile(part.name, part.pem)
}
</script>

<style scoped>
.set { margin-bottom: 10px; }
.title { margin: 0 0 4px; overflow-wrap: anywhere; }
ul { margin: 0; padding: 0; list-style: none; }
ul.sheet { padding: 10px 14px; }
li { overflow-wrap: anywhere; padding: 2px 0; }
.kind { display: inline-block; min-width: 76px; }
.good { color: var(--sound); margin-left: 8px; }
.parts { display: flex; flex-wrap: wrap; gap: 6px; align-items: center; margin: 8px 0 0; }
.parts .el-button { margin: 0; }
.note { font-size: 12.5px; margin: 6px 0 0; }
.apart { margin-top: 18px; }
.why { margin-left: 0.5em; }
</style>
