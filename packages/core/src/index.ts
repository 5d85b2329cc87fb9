export * from './units.js';
export * from './text/safe.js';
export * from './text/step.js';
export { octets } from './text/octets.js';
export { closedObject } from './text/closed.js';
export { describeIssue, meantText } from './text/issues.js';
export { depthOf, jsonFault } from './text/json.js';
export * from './versions/version.js';
export * from './causes/catalogue.js';
export * from './images/header.js';
export * from './images/match.js';
export * from './versions/range.js';
export * from './images/note.js';
export * from './images/checksums.js';
export * from './images/uboot.js';
export * from './images/fit.js';
export * from './images/file-header.js';
export * from './images/propose.js';
export * from './images/group.js';
export * from './paths/ranks.js';
export * from './paths/path-image.js';
export * from './paths/types.js';
export * from './paths/solve.js';
export * from './paths/gap.js';
export * from './advisories/csaf.js';
export * from './advisories/exposure.js';
export * from './standing/standing.js';
export * from './standing/distances.js';
export * from './configuration/compare.js';
export * from './checks/check.js';
export * from './checks/after.js';
export * from './checks/held.js';
export * from './checks/members.js';
export * from './checks/restart.js';
export * from './plan/plan.js';
export * from './plan/bring.js';
export * from './plan/hazards/index.js';
export * from './plan/read.js';
export * from './plan/waves.js';
export * from './plan/way.js';
export * from './plan/rungs.js';
export * from './plan/windows.js';
export * from './scheduler/steps.js';
export * from './scheduler/events.js';
export * from './scheduler/state.js';
export * from './scheduler/apply.js';
export * from './scheduler/keep.js';
export * from './scheduler/ledger.js';
export * from './scheduler/decide.js';
export * from './scheduler/why.js';
export * from './scheduler/commanded.js';
export * from './rehearsal/chain.js';
export * from './rehearsal/cut.js';
export * from './rehearsal/play.js';
export * from './rehearsal/foretell.js';
export * from './rehearsal/latest.js';
export * from './rehearsal/rehearse.js';
export * from './rehearsal/took.js';
export * from './rehearsal/trace.js';
export * from './rehearsal/watch.js';
export * from './standing/targets.js';
export * from './records/from-snmp.js';
export * from './records/told.js';
export { shortened } from './rehearsal/order.js';
export * from './plan/mixed.js';
export * from './records/ranges.js';
export * from './records/approval.js';
export * from './api/shapes.js';
export * from './api/images.js';
export * from './api/device-lists.js';
export * from './notices/occasions.js';
export * from './report/lines.js';
export * from './api/notices.js';
export * from './api/plan-file.js';
export * from './api/targets.js';
export * from './api/teaching.js';
export * from './api/advisories.js';
export * from './records/around.js';
export * from './records/identity.js';
export * from './records/believe.js';
export * from './topology/topology.js';
export * from './topology/dark.js';
export * from './topology/guards.js';
export * from './topology/stands.js';
export { editDistance, meantName, nearestNames, type NearName } from './transfers/names.js';
export {
  explainTransfer,
  usualPatience,
  type Evidence,
  type FetcherSeen,
  type TransferFinding,
  type MoveSeen,
  type RefusalSeen,
  type StoreSeen,
} from './transfers/ladder.js';
export { describePacket, writePcapng, type KeptPacket } from './transfers/packets.js';
export { transferFaults, type TransferFault, type TransferFaultName } from './transfers/faults.js';
export * from './api/staging.js';
export * from './api/windows.js';
