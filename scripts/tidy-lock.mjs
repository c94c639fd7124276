// Takes the funding entries (addresses) out of package-lock.json; npm does not miss them.
import { readFileSync, writeFileSync } from 'node:fs';
const file = new URL('../web/package-lock.json', import.meta.url);
const lock = JSON.parse(readFileSync(file, 'utf8'));
for (const entry of Object.values(lock.packages)) delete entry.funding;
writeFileSync(file, JSON.stringify(lock, null, 2) + '\n');
