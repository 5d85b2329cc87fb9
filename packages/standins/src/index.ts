import { fileURLToPath } from 'node:url';

export { isLoggedInOver } from './net/console-line.js';
export { faultNames, StandIn, type FaultName } from './device.js';
export type { Counters, Persistent, StoredImage } from './machine.js';
export { Fleet, writeScenarioImages, writeUnpackedImage, type FleetOptions } from './fleet.js';
export { inspectImage, makeImage, sha256, type ImageRecipe } from './image.js';
export { libraryAdvisories } from './library/advisories.js';
export { fitImage, ubootImage } from './library/formats.js';
export { libraryImages } from './library/recipes.js';
export { releaseFiles, writeScenarioLibrary, type Library } from './library/write.js';
export { authorizeKey } from './net/shell-server.js';
export { openControl } from './control.js';
export { answerFaults, Fixture, type AnswerFault } from './fixture.js';
export { aroundFaults, upgradeFaults, type RolloutFault } from './rollout-faults.js';
export { scenario, scenarioImages, sites } from './scenario.js';
export { scenarioFixtures } from './scenario-fixtures.js';
export { scenarioCables, scenarioOutlets } from './scenario-wiring.js';
export * from './access.js';

/** The compiled program that runs a fleet in a process of its own. */
export const fleetProgram = fileURLToPath(new URL('../dist/fleet-process.js', import.meta.url));
