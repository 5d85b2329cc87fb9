export {
  familySchema,
  hasShell,
  isUpgradable,
  procedureNames,
  usesShell,
  usesWeb,
  type Family,
  type FamilyWithShell,
  type Procedure,
  type ProcedureName,
  type ProcedureStep,
  type UpgradableFamily,
} from './schema/family.js';
export {
  FamilyFileError,
  loadFamilies,
  loadFamilyFiles,
  parseFamily,
  shippedFamilies,
  type FamilyFault,
  type FamilyFiles,
} from './schema/load.js';
export { comparesBy } from './schema/proof.js';
export { remarksOfSense, type SenseFault } from './schema/sense.js';
export { recognise, type Heard, type Recognised } from './recognise.js';
export {
  asCause,
  asSeen,
  awaitPrompt,
  raise,
  runProcedure,
  type CarriedFile,
  type Receiving,
  type Carrier,
  type ProcedureResult,
  type ProcedureRun,
  type Shell,
  type Web,
} from './procedure/run.js';
