/** Saves a file from the memory of the page; no server takes part. */
export function saveFile(name: string, data: BlobPart) {
  const address = URL.createObjectURL(new Blob([data], { type: 'application/octet-stream' }))
  const link = Object.assign(document.createElement('a'), { href: address, download: name })
  link.click()
  URL.revokeObjectURL(address)
}
