/** What each measure of delivery counts, in words: the same on the page, in the answer and in the manual. */

export const measures = {
  deployments:
    'Deployments that went live where nothing comes after: the last environment of a project. Reverts are not among them, nor what ended before it was live.',
  lead: 'From the commit to its going live there, of each commit that was pushed to the main branch: half took at most this, nine of ten at most the second figure. Its parts: until it was pushed, until its run had ended, until somebody (or a rule) asked for the deployment, until that was live.',
  failed:
    'Of the deployments that some of the traffic was led to: those whose place was taken back, before they were live or after, and those in poor health when the next one took their place. What failed before anybody saw it is counted beside it.',
  restored:
    'From the first sign until visitors were well again: a failed deployment from the first traffic that it had until what was before had all of it; a live one from when its health was no longer good, or from when its revert was asked for, until what came next was live.',
  tasks:
    'How long an attempt at a task ran, over all its attempts in these weeks. The trend compares the later half of them with the earlier.',
  reuse:
    'Tasks whose result was there already, from an earlier run or one beside it; what that saved is how long the work had run when it was done.',
  flaky: 'Tests that failed in an attempt after which the same bytes passed.',
  waiting: 'From the moment a task could have begun until an agent had taken it.',
} as const;
