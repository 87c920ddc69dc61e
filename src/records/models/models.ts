/** The models of all tables, on one connection pool, and how they belong to each other. */
import type { Model, ModelStatic, Sequelize } from 'sequelize';
import { defineAddress } from './domains/addresses.js';
import { defineAuthority } from './domains/authorities.js';
import { defineCertificate } from './domains/certificates.js';
import { defineAgent } from './callers/agents.js';
import { defineAnswer } from './callers/answers.js';
import { defineAttempt } from './runs/attempts.js';
import { defineBackup } from './resources/backups.js';
import { defineChore } from './resources/chores.js';
import { defineSnapshot } from './resources/snapshots.js';
import { defineStray } from './resources/strays.js';
import { defineLogin } from './resources/logins.js';
import { defineResource } from './resources/resources.js';
import { defineFigure } from './figures/figures.js';
import { defineRollup } from './figures/rollups.js';
import { defineSender } from './figures/senders.js';
import { defineBranch } from './projects/branches.js';
import { defineCommand } from './runs/commands.js';
import { defineCommit } from './projects/commits.js';
import { defineCoverageOfAttempt } from './runs/coverage.js';
import { defineDefinitionOfCommit } from './projects/definitions.js';
import { defineCondition } from './deliveries/conditions.js';
import { defineDestination } from './deliveries/destinations.js';
import { defineSentLog } from './deliveries/sent-logs.js';
import { defineDelivery } from './deliveries/deliveries.js';
import { defineSubscription } from './deliveries/subscriptions.js';
import { defineCutover } from './deployments/cutovers.js';
import { defineDeployment } from './deployments/deployments.js';
import { defineJoint } from './deployments/joints.js';
import { defineDeliveryDay, defineFlakyDay, defineTaskDay } from './delivery/days.js';
import { defineEdge } from './callers/edges.js';
import { defineEnvironment } from './deployments/environments.js';
import { defineEvent } from './events/events.js';
import { defineApproval } from './deployments/approvals.js';
import { defineEvidence } from './deployments/evidence.js';
import { defineInstance } from './deployments/instances.js';
import { defineInstallation } from './installation.js';
import { defineIntake } from './projects/intake.js';
import { defineJob } from './jobs/jobs.js';
import { defineLogChunk } from './runs/logs.js';
import { definePerson } from './callers/people.js';
import { definePicture, defineStoredPicture } from './deployments/pictures.js';
import { definePrice } from './cost/prices.js';
import { defineProject } from './projects/projects.js';
import { definePulled } from './projects/pulled.js';
import { definePullRequest } from './projects/pull-requests.js';
import { definePush } from './projects/pushes.js';
import { defineReleaseBlob } from './deployments/release-blobs.js';
import { defineRelease } from './deployments/releases.js';
import { defineResult } from './runs/results.js';
import { defineRoute } from './deployments/routes.js';
import { defineRun } from './runs/runs.js';
import { defineSeal } from './events/seals.js';
import { defineSession } from './callers/sessions.js';
import { definePass, defineReviewLink } from './callers/links.js';
import { defineSignIn } from './callers/sign-ins.js';
import { defineTask } from './runs/tasks.js';
import { defineTerminal } from './deployments/terminals.js';
import { defineToken } from './callers/tokens.js';
import { defineVariable } from './deployments/variables.js';
import { defineVolume } from './resources/volumes.js';
import { defineWake } from './deployments/wakes.js';

export type Models = ReturnType<typeof defineModels>;

export function defineModels(sequelize: Sequelize) {
  const models = {
    Address: defineAddress(sequelize),
    Agent: defineAgent(sequelize),
    Answer: defineAnswer(sequelize),
    Approval: defineApproval(sequelize),
    Attempt: defineAttempt(sequelize),
    Authority: defineAuthority(sequelize),
    Backup: defineBackup(sequelize),
    Branch: defineBranch(sequelize),
    Certificate: defineCertificate(sequelize),
    Chore: defineChore(sequelize),
    Snapshot: defineSnapshot(sequelize),
    Stray: defineStray(sequelize),
    Command: defineCommand(sequelize),
    Commit: defineCommit(sequelize),
    Condition: defineCondition(sequelize),
    CoverageOfAttempt: defineCoverageOfAttempt(sequelize),
    DefinitionOfCommit: defineDefinitionOfCommit(sequelize),
    Cutover: defineCutover(sequelize),
    Delivery: defineDelivery(sequelize),
    Deployment: defineDeployment(sequelize),
    Joint: defineJoint(sequelize),
    TaskDay: defineTaskDay(sequelize),
    FlakyDay: defineFlakyDay(sequelize),
    DeliveryDay: defineDeliveryDay(sequelize),
    Destination: defineDestination(sequelize),
    Edge: defineEdge(sequelize),
    Environment: defineEnvironment(sequelize),
    Event: defineEvent(sequelize),
    Evidence: defineEvidence(sequelize),
    Figure: defineFigure(sequelize),
    Instance: defineInstance(sequelize),
    Installation: defineInstallation(sequelize),
    Intake: defineIntake(sequelize),
    Job: defineJob(sequelize),
    Login: defineLogin(sequelize),
    LogChunk: defineLogChunk(sequelize),
    Person: definePerson(sequelize),
    Picture: definePicture(sequelize),
    StoredPicture: defineStoredPicture(sequelize),
    Price: definePrice(sequelize),
    Project: defineProject(sequelize),
    PullRequest: definePullRequest(sequelize),
    Pulled: definePulled(sequelize),
    Push: definePush(sequelize),
    ReleaseBlob: defineReleaseBlob(sequelize),
    Release: defineRelease(sequelize),
    Resource: defineResource(sequelize),
    Result: defineResult(sequelize),
    Route: defineRoute(sequelize),
    Rollup: defineRollup(sequelize),
    Run: defineRun(sequelize),
    Seal: defineSeal(sequelize),
    Sender: defineSender(sequelize),
    Session: defineSession(sequelize),
    SentLog: defineSentLog(sequelize),
    ReviewLink: defineReviewLink(sequelize),
    Pass: definePass(sequelize),
    SignIn: defineSignIn(sequelize),
    Subscription: defineSubscription(sequelize),
    Task: defineTask(sequelize),
    Terminal: defineTerminal(sequelize),
    Token: defineToken(sequelize),
    Variable: defineVariable(sequelize),
    Volume: defineVolume(sequelize),
    Wake: defineWake(sequelize),
  };
  for (const model of Object.values(models)) associate(model, Object.values(models));
  return models;
}

/** A column that names another table belongs to it: `run_id` is the association `run`. The tables' own keys are in the migrations. */
function associate(model: ModelStatic<Model>, all: readonly ModelStatic<Model>[]): void {
  for (const [name, { references }] of Object.entries(model.getAttributes())) {
    const table = typeof references === 'object' && 'model' in references ? references.model : null;
    const other = all.find((one) => one.getTableName() === table);
    if (other) model.belongsTo(other, { foreignKey: name, as: name.replace(/_(id|for)$/, ''), constraints: false });
  }
}
