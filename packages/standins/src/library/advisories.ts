/** One made-up advisory, as few words of CSAF 2.0 as make a whole document. */
interface Recipe {
  readonly id: string;
  readonly title: string;
  readonly vendor: string;
  readonly severity: string;
  /** CVSS 3.1 vector, and the base score that follows from it. */
  readonly vector: string;
  readonly score: number;
  readonly summary: string;
  readonly products: readonly {
    readonly name: string;
    readonly versions: readonly (readonly [
      version: string,
      status: 'known_affected' | 'fixed' | 'known_not_affected' | 'under_investigation',
    ])[];
  }[];
  readonly remedy: string;
}

const recipes: readonly Recipe[] = [
  {
    id: 'TBK-2026-004',
    title: 'Access switches forget who may log in',
    vendor: 'Tarnbrook',
    severity: 'High',
    vector: 'CVSS:3.1/AV:N/AC:H/PR:N/UI:N/S:U/C:H/I:H/A:H',
    score: 8.1,
    summary: 'After 248 days of running, the shell lets anybody in who gives the right name and no word.',
    products: [
      {
        name: 'TB-2408 and TB-2424 access switches',
        versions: [
          ['vers:generic/>=4.0.0|<4.3.0', 'known_affected'],
          ['vers:generic/>=4.3.0', 'fixed'],
        ],
      },
      {
        name: 'TB-3608 stack switches',
        versions: [
          ['vers:generic/<6.1.2', 'known_affected'],
          ['6.1.2', 'fixed'],
        ],
      },
      { name: 'TB-4812 core switches', versions: [['vers:generic/*', 'under_investigation']] },
    ],
    remedy: 'Update to 4.3.0 or 6.1.2. Until then, restart the switch once in half a year.',
  },
  {
    id: 'TLD-2026-011',
    title: 'Desk phones answer to anybody on the voice network',
    vendor: 'Tollard',
    severity: 'Medium',
    vector: 'CVSS:3.1/AV:N/AC:L/PR:L/UI:N/S:U/C:H/I:N/A:N',
    score: 6.5,
    summary: 'A phone takes an address of its settings from whoever answers first.',
    products: [
      {
        name: 'D40 desk phones',
        versions: [
          ['vers:generic/>=2.0.0|<3.0.2', 'known_affected'],
          ['3.0.2', 'fixed'],
        ],
      },
    ],
    remedy: 'Update to 3.0.2 by way of 2.9.0.',
  },
  {
    id: 'OWP-2026-002',
    title: 'Cameras show their picture without a login',
    vendor: 'Owlpane',
    severity: 'Critical',
    vector: 'CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:N',
    score: 9.1,
    summary: 'A stream that was opened once goes on after the login was changed.',
    products: [
      {
        name: 'OC-400 cameras',
        versions: [
          ['vers:generic/>=2.9.0|<2.12.0', 'known_affected'],
          ['2.12.0', 'fixed'],
        ],
      },
      { name: 'OW-Desk viewing program', versions: [['<5.2', 'known_affected']] },
    ],
    remedy: 'Update to 2.12.0. Recorders need 3.9.0 before.',
  },
];

/** The advisories of the demo as CSAF 2.0 documents: file name to JSON text. */
export function libraryAdvisories(): { file: string; text: string }[] {
  return recipes.map((r) => {
    const ids = new Map<string, string>();
    let next = 1;
    const branches = r.products.map((p) => ({
      category: 'product_name',
      name: p.name,
      branches: p.versions.map(([version]) => {
        const id = `P-${next++}`;
        ids.set(`${p.name}|${version}`, id);
        const isRange = /[<>*]/.test(version);
        return {
          category: isRange ? 'product_version_range' : 'product_version',
          name: version,
          product: { product_id: id, name: `${r.vendor} ${p.name} ${version}` },
        };
      }),
    }));
    const status: Record<string, string[]> = {};
    for (const p of r.products) for (const [version, what] of p.versions) (status[what] ??= []).push(ids.get(`${p.name}|${version}`)!);
    const affected = status['known_affected'] ?? [];
    const document = {
      document: {
        category: 'csaf_security_advisory',
        csaf_version: '2.0',
        title: r.title,
        publisher: { category: 'vendor', name: r.vendor, namespace: `https://${r.vendor.toLowerCase()}.example` },
        tracking: {
          id: r.id,
          status: 'final',
          version: '1',
          initial_release_date: '2026-10-05T09:00:00Z',
          current_release_date: '2026-10-05T09:00:00Z',
          revision_history: [{ number: '1', date: '2026-10-05T09:00:00Z', summary: 'First edition' }],
        },
        aggregate_severity: { text: r.severity },
        notes: [{ category: 'summary', text: r.summary }],
      },
      product_tree: { branches: [{ category: 'vendor', name: r.vendor, branches }] },
      vulnerabilities: [
        {
          title: r.title,
          ids: [{ system_name: `${r.vendor} tracking`, text: r.id }],
          notes: [{ category: 'description', text: r.summary }],
          product_status: status,
          scores: [
            {
              products: affected,
              cvss_v3: {
                version: '3.1',
                vectorString: r.vector,
                baseScore: r.score,
                baseSeverity: r.severity.toUpperCase(),
              },
            },
          ],
          remediations: [{ category: 'vendor_fix', details: r.remedy, product_ids: affected }],
        },
      ],
    };
    return { file: `${r.id.toLowerCase()}.json`, text: JSON.stringify(document, null, 2) };
  });
}
