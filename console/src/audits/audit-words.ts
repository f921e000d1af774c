import { moment, t } from '../words/t'
import type { Audit } from '../api/client'

/** One line that says where the audit stands. */
export function auditWords(audit: Audit): string {
  const { id, done, visits } = audit
  const when = moment(audit.finished_at)
  switch (audit.state) {
    case 'planning':
      return t('audit.planning', { id })
    case 'visiting':
      return t('audit.visiting', { id, done, visits })
    case 'judging':
      return t('audit.judging', { id })
    case 'cancelled':
      return t('audit.cancelled', { id, when })
    case 'failed':
      return t('audit.failed', { id, when, failure: audit.failure ?? '' })
    case 'finished': {
      const v = audit.verdicts
      return t('audit.finished', {
        id,
        when,
        faulty: v.faulty,
        risk: v['at-risk'],
        unreachable: v.unreachable,
        sound: v.sound,
      })
    }
  }
}
