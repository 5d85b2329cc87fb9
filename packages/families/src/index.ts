export { familySchema, procedureNames, type Family, type Procedure, type ProcedureName, type ProcedureStep } from './schema/family.js';
export { FamilyFileError, loadFamilies, parseFamily, shippedFamilies, type FamilyFault } from './schema/load.js';
export { recogniseSnmp, type Recognised } from './recognise.js';
export { asCause, asSeen, awaitPrompt, runProcedure, type ProcedureResult, type ProcedureRun, type Shell } from './procedure/run.js';
