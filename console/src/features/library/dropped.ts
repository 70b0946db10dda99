/** What was dropped: files, and folders with all they hold. */

export interface Found {
  file: File;
  folder: string;
}

export async function dropped(transfer: DataTransfer, into: string): Promise<Found[]> {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry?.() ?? null);
  const plain = [...transfer.files];
  if (!entries.some((e) => e?.isDirectory)) return plain.map((file) => ({ file, folder: into }));
  const found = await Promise.all(entries.map((entry) => (entry ? walk(entry, into) : [])));
  return found.flat();
}

async function walk(entry: FileSystemEntry, into: string): Promise<Found[]> {
  if (entry.name.startsWith(".")) return [];
  if (entry.isFile) {
    const file = await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject));
    return [{ file, folder: into }];
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const inside: FileSystemEntry[] = [];
  for (;;) {
    const more = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject));
    if (more.length === 0) break;
    inside.push(...more);
  }
  const folder = [into, entry.name].filter(Boolean).join("/");
  return (await Promise.all(inside.map((e) => walk(e, folder)))).flat();
}
