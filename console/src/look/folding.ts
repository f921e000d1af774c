/** Where a list folds for a phone, each cell says what it is: by the heading of its column. */
import type { Directive } from 'vue'

function label(table: HTMLTableElement) {
  table.classList.add('folding', 'labelled')
  const titles = [...table.querySelectorAll('thead th')].map((th) => th.textContent?.trim() ?? '')
  for (const row of table.tBodies[0]?.rows ?? []) {
    for (const [index, cell] of [...row.cells].entries()) if (titles[index]) cell.dataset.title = titles[index]
  }
}

export const vFolding: Directive<HTMLTableElement> = { mounted: label, updated: label }
