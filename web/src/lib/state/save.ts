/** What is written into a file of the user's. */
const KEPT_MS = 1000;

export function saveFile(content: Blob, name: string): void {
  const link = document.createElement('a');
  link.href = URL.createObjectURL(content);
  link.download = name.replace(/[^\w .,-]/g, '_');
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), KEPT_MS);
}

export const saveText = (text: string, name: string, type = 'text/plain'): void =>
  saveFile(new Blob([text], { type }), name);
