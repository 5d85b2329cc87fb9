export { familySchema } from './schema/family.js';
export { needsPageLogin, usesShell, usesOnvif, usesSip, usesSnmp, usesWeb } from './schema/walk.js';
export { linesByHand } from './schema/by-hand.js';
export {
  hasShell,
  isUpgradable,
  throughParent,
  versionsOf,
  wayNamed,
  wayOf,
  procedureNames,
  type Condition,
  type Family,
  type FamilyWithShell,
  type Procedure,
  type ProcedureName,
  type ProcedureStep,
  type FamilyWay,
} from './schema/shape.js';
export { FamilyFileError, loadFamilies, loadFamilyFiles, parseFamily, shippedFamilies, type FamilyFiles } from './schema/load.js';
export { faultLines, type FileFault } from './schema/written.js';
export { readTargetSet, TargetSetError, writeTargetSet } from './target-set.js';
export { compiledFamily, writeCompiled } from './schema/compiled.js';
export { comparesBy } from './schema/proof.js';
export { givenWords } from './schema/reference.js';
export { givenValues } from './schema/sense.js';
export { hidden, hideInLines, hideSecrets } from './secrets.js';
export { whatWorks } from './schema/works.js';
export { mayGive, remarksOfSense, type SenseFault } from './schema/sense.js';
export { fillSent } from './procedure/values.js';
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
  type AskPerson,
  type Onvif,
  type Sip,
  type Snmp,
  type Web,
} from './procedure/run.js';
export { draftFamily, knownBy, type DraftOf } from './teach/draft.js';
export { ExamplesUnlike, schemeOf } from './teach/versions.js';
export {
  concealed,
  conversationFile,
  conversationFolder,
  ConversationError,
  readConversation,
  writeConversation,
  type Conversation,
  type Exchange,
  requestIn,
} from './teach/conversation.js';
export { changingSteps, linesThatAsk } from './teach/changing.js';
export { onlyAsk, tryProcedure, type Tried } from './teach/try.js';
export { captureOf, hasProcedure, promptOf, secretsIn, refusalOf, withProcedure } from './teach/propose.js';
export { familyJsonSchema, type SchemaNode } from './schema/json-schema.js';
export { referenceOf } from './schema/reference.js';
