// A process that writes one journal entry after the other and says which were acknowledged, until it is killed.
import { Database } from '../dist/data/database.js';
import { JournalEntity } from '../dist/data/entities.js';

const db = await Database.open(process.argv[2]);
for (let seq = 1; ; seq += 4) {
  const group = [0, 1, 2, 3].map((i) => seq + i);
  await Promise.all(
    group.map((n) =>
      db.write((em) => em.insert(JournalEntity, { seq: n, rollout: 'r', at: n, event: { kind: 'noted', at: n, by: 'a', text: 'x' } })),
    ),
  );
  for (const n of group) process.send(n);
}
