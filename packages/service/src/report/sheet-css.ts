/** For paper first: no colour carries a meaning of its own. */
export const sheetCss = `
  :root { color-scheme: light; font: 9.5pt/1.4 system-ui, sans-serif; color: #16202b; background: #fff; }
  body { max-width: 64rem; margin: 1.5rem auto; padding: 0 1.2rem; }
  h1 { font-size: 1.4rem; margin: 0 0 .2rem; } h2 { font-size: 1.05rem; margin: 1.5rem 0 .4rem; border-bottom: 2px solid #16202b; padding-bottom: .15rem; }
  h3 { font-size: .95rem; margin: 1rem 0 .2rem; } p { margin: .25rem 0; } ul { margin: .2rem 0; padding-left: 1.1rem; }
  .quiet { color: #55636f; font-weight: 400; } .warn { color: #8a1c1c; font-weight: 600; }
  table { border-collapse: collapse; width: 100%; } th { text-align: left; font-weight: 600; color: #55636f; }
  th, td { padding: .28rem .6rem .28rem 0; border-bottom: 1px solid #cfd6db; vertical-align: top; }
  th.num, td.num { text-align: right; white-space: nowrap; }
  code, .mono { font-family: ui-monospace, 'DejaVu Sans Mono', monospace; font-size: .92em; overflow-wrap: anywhere; }
  .box { font-size: 1.25em; line-height: 1; width: 1.4rem; white-space: nowrap; }
  .runs :is(td, th) { padding-right: .9rem; } .runs td:nth-child(4) { min-width: 9rem; } .runs td:nth-child(5) { min-width: 9.5rem; } .runs td:nth-child(7) { max-width: 16rem; } .runs th:last-child { white-space: nowrap; min-width: 4.5rem; }
  li { margin: .3rem 0; }
  tr.verified td { color: #55636f; } tr.failed td:last-child { color: #8a1c1c; font-weight: 600; }
  .hand td:nth-child(2) { width: 11rem; } .hand tr.past td:nth-child(2) { border-left: 3px solid #8a1c1c; padding-left: .5rem; }
  .gate { padding: .4rem 0; } tr, .gate { break-inside: avoid; } thead { display: table-header-group; }
  @page { margin: 14mm 12mm; }
  @media print { body { margin: 0; max-width: none; padding: 0; } h2, h3 { break-after: avoid; } }
`;
