import { z } from 'zod';
import { jsonFault } from '../text/json.js';

/**
 * The parts of a CSAF 2.0 document that are read. Source: OASIS Common Security Advisory Framework 2.0, §3 (schema elements):
 * /document, /product_tree with branches, relationships and full product names, /vulnerabilities with product_status, scores and
 * remediations. Unknown keys are left alone, as §9 asks of consumers.
 */
interface Branch {
  category: string;
  name: string;
  branches?: Branch[] | undefined;
  product?: { product_id: string; name: string } | undefined;
}
const product = z.object({ product_id: z.string().min(1), name: z.string().min(1) });
const branch: z.ZodType<Branch> = z.lazy(() =>
  z.object({
    category: z.string(),
    name: z.string().min(1),
    branches: z.array(branch).optional(),
    product: product.optional(),
  }),
) as never;

const ids = z.array(z.string()).optional();
const csafSchema = z.object({
  document: z.object({
    category: z.string().min(1),
    csaf_version: z.literal('2.0'),
    title: z.string().min(1),
    publisher: z.object({ name: z.string().min(1) }),
    tracking: z.object({
      id: z.string().min(1).max(120),
      status: z.string(),
      version: z.string(),
      current_release_date: z.string(),
      initial_release_date: z.string(),
    }),
    aggregate_severity: z.object({ text: z.string() }).optional(),
    notes: z.array(z.object({ category: z.string(), text: z.string(), title: z.string().optional() })).optional(),
  }),
  product_tree: z
    .object({
      branches: z.array(branch).optional(),
      full_product_names: z.array(product).optional(),
      relationships: z.array(z.object({ category: z.string(), full_product_name: product })).optional(),
    })
    .optional(),
  vulnerabilities: z
    .array(
      z.object({
        cve: z.string().optional(),
        title: z.string().optional(),
        ids: z.array(z.object({ system_name: z.string(), text: z.string() })).optional(),
        notes: z.array(z.object({ category: z.string(), text: z.string() })).optional(),
        product_status: z
          .object({
            first_affected: ids,
            first_fixed: ids,
            fixed: ids,
            known_affected: ids,
            known_not_affected: ids,
            last_affected: ids,
            recommended: ids,
            under_investigation: ids,
          })
          .optional(),
        scores: z
          .array(
            z.object({
              products: z.array(z.string()),
              cvss_v3: z.object({ baseScore: z.number(), baseSeverity: z.string() }).optional(),
              cvss_v2: z.object({ baseScore: z.number() }).optional(),
            }),
          )
          .optional(),
        remediations: z.array(z.object({ category: z.string(), details: z.string(), product_ids: ids })).optional(),
      }),
    )
    .optional(),
});

/** What an advisory says of one product in one vulnerability. */
export const productStatuses = ['affected', 'fixed', 'not-affected', 'under-investigation'] as const;
export type ProductStatus = (typeof productStatuses)[number];

export interface AdvisoryProduct {
  readonly id: string;
  /** From the branches; null where the document has none. */
  readonly vendor: string | null;
  /** The product, without its version. */
  readonly product: string;
  /** One version, or a range as text; null when the product is meant in every version. */
  readonly version: string | null;
  readonly versionIsRange: boolean;
}

export interface AdvisoryVulnerability {
  /** Its identifier, or its title. */
  readonly name: string;
  readonly title: string | null;
  /** Product id to what is said of it. */
  readonly status: Readonly<Record<string, ProductStatus>>;
  /** Base score 0 to 10 by product id, the highest where several are given. */
  readonly scores: Readonly<Record<string, number>>;
  readonly remedies: readonly { readonly category: string; readonly details: string; readonly products: readonly string[] | null }[];
}

export interface Advisory {
  readonly id: string;
  readonly title: string;
  readonly publisher: string;
  readonly edition: string;
  readonly status: string;
  readonly releasedAt: string;
  /** The publisher's own word for how grave it is. */
  readonly severity: string | null;
  readonly summary: string | null;
  readonly products: readonly AdvisoryProduct[];
  readonly vulnerabilities: readonly AdvisoryVulnerability[];
  /** The mandatory tests of the standard (CSAF 2.0 §6.1) that it fails; absent in what was kept before they were made. */
  readonly fails?: readonly string[];
}

/** A document that is no CSAF 2.0 advisory, with the place of each fault. */
export class AdvisoryUnreadable extends Error {
  readonly code = 'advisory-unreadable';
  constructor(readonly faults: readonly string[]) {
    super(faults.join('; '));
  }
}

/**
 * Reads a CSAF 2.0 document. Product ids that are used and not defined (§6.1.1) are among its faults, and keep nothing from being read.
 * @throws AdvisoryUnreadable
 */
export function readAdvisory(text: string): Advisory {
  const fault = jsonFault(text);
  if (fault !== null) throw new AdvisoryUnreadable([fault]);
  let json: unknown;
  try {
    json = JSON.parse(text);
  } catch (error) {
    throw new AdvisoryUnreadable([`it is not JSON: ${(error as Error).message}`]);
  }
  const parsed = csafSchema.safeParse(json);
  if (!parsed.success) throw new AdvisoryUnreadable(parsed.error.issues.slice(0, 5).map((i) => `/${i.path.join('/')}: ${i.message}`));
  const { document, product_tree: tree, vulnerabilities = [] } = parsed.data;
  const products = productsOf(tree);
  const known = new Set(products.map((p) => p.id));
  // CSAF 2.0 §6.1.1: every product id that is used must be defined.
  const undefinedIds = new Set<string>();
  const read = vulnerabilities.map((v, index): AdvisoryVulnerability => {
    const status: Record<string, ProductStatus> = {};
    const put = (list: string[] | undefined, what: ProductStatus): void => {
      for (const id of list ?? []) {
        if (!known.has(id)) undefinedIds.add(id);
        status[id] = what;
      }
    };
    const s = v.product_status;
    put(s?.under_investigation, 'under-investigation');
    put(s?.known_not_affected, 'not-affected');
    put([...(s?.fixed ?? []), ...(s?.first_fixed ?? [])], 'fixed');
    put([...(s?.known_affected ?? []), ...(s?.first_affected ?? []), ...(s?.last_affected ?? [])], 'affected');
    const scores: Record<string, number> = {};
    for (const score of v.scores ?? [])
      for (const id of score.products) scores[id] = Math.max(scores[id] ?? 0, score.cvss_v3?.baseScore ?? score.cvss_v2?.baseScore ?? 0);
    return {
      name: v.cve ?? v.ids?.[0]?.text ?? v.title ?? `vulnerability ${index + 1}`,
      title: v.title ?? null,
      status,
      scores,
      remedies: (v.remediations ?? []).map((r) => ({ category: r.category, details: r.details, products: r.product_ids ?? null })),
    };
  });
  return {
    id: document.tracking.id,
    title: document.title,
    publisher: document.publisher.name,
    edition: document.tracking.version,
    status: document.tracking.status,
    releasedAt: document.tracking.current_release_date,
    severity: document.aggregate_severity?.text ?? null,
    summary: document.notes?.find((n) => n.category === 'summary' || n.category === 'description')?.text ?? null,
    products,
    vulnerabilities: read,
    fails:
      undefinedIds.size > 0
        ? [`§6.1.1, at /vulnerabilities: the products ${[...undefinedIds].slice(0, 5).join(', ')} are named and not defined`]
        : [],
  };
}

type Tree = z.infer<typeof csafSchema>['product_tree'];

function productsOf(tree: Tree): AdvisoryProduct[] {
  const found: AdvisoryProduct[] = [];
  // CSAF 2.0 §3.1.2: a branch is a vendor, a product name, a version, a version range and so on; its leaf holds the product.
  const walk = (branches: readonly Branch[], above: Readonly<Record<string, string>>, depth: number): void => {
    if (depth > 30) throw new AdvisoryUnreadable(['/product_tree: branches are nested too deep']);
    for (const b of branches) {
      const here = { ...above, [b.category]: b.name };
      if (b.product) {
        const range = here['product_version_range'] ?? null;
        found.push({
          id: b.product.product_id,
          vendor: here['vendor'] ?? null,
          product: here['product_name'] ?? here['product_family'] ?? b.product.name,
          version: range ?? here['product_version'] ?? null,
          versionIsRange: range !== null,
        });
      }
      if (b.branches) walk(b.branches, here, depth + 1);
    }
  };
  walk(tree?.branches ?? [], {}, 0);
  const loose = [...(tree?.full_product_names ?? []), ...(tree?.relationships ?? []).map((r) => r.full_product_name)];
  for (const p of loose) found.push({ id: p.product_id, vendor: null, product: p.name, version: null, versionIsRange: false });
  return found;
}
