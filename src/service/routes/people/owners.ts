/** What owners do: people and their roles, renaming, pausing and removing projects. */
import { Type } from '@sinclair/typebox';
import { CodedError } from '../../../core/errors/errors.js';
import { isReservedPerson, lookOf } from '../../../core/people.js';
import { changeProject, removeProject } from '../../../engine/upkeep/upkeep.js';
import { newToken, tokenHash } from '../../../keys/keys.js';
import {
  addPerson,
  addSignIn,
  findPerson,
  listPeople,
  namesOfPeople,
  type PersonRow,
  removePerson,
  revokeSignIns,
  setRole,
} from '../../../records/callers/people.js';
import type { Db } from '../../../records/database.js';
import { recordEvents } from '../../../records/events.js';
import { wakeApproved } from '../../../records/deployments/approvals.js';
import { removalOf } from '../../../records/projects/projects.js';
import { AddedPerson, NewPerson, Person, RoleBody } from '../../../wire/people.js';
import { Page } from '../../../wire/parts.js';
import { Project, Removal } from '../../../wire/projects.js';
import { ProjectChange } from '../../../wire/guide.js';
import { type App, change, needProject, notFound, type Service } from '../../server.js';
import { projectView } from '../../views/basics.js';

/** How long the one-time sign-in of a new person is good. */
const invitationMs = 3 * 86_400_000;

export function ownerRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  app.get('/api/people', { schema: { response: { 200: Page(Person) } } }, async () => ({
    items: (await listPeople(records)).map(personView),
    next: null,
  }));

  app.post('/api/people', { schema: { body: NewPerson, response: { 201: AddedPerson } } }, (request, reply) =>
    change(service, request, reply, 'person.added', 201, async (db, actor) => {
      const { name, role } = request.body;
      if (isReservedPerson(name)) throw new CodedError('person_reserved', { name });
      const like = (await namesOfPeople(db)).find((one) => lookOf(one) === lookOf(name));
      if (like === name) throw new CodedError('name_taken', { what: 'person', name });
      if (like !== undefined) throw new CodedError('person_alike', { name, other: like });
      await addPerson(db, name, role, actor);
      return invite(db, name);
    }),
  );

  /** A sign-in that is good once, and takes the place of those that were not used. */
  async function invite(db: Db, name: string): Promise<AddedPerson> {
    const person = (await findPerson(db, name)) as PersonRow;
    const code = newToken('code');
    const expires = new Date(context.now() + invitationMs);
    await revokeSignIns(db, person.id);
    await addSignIn(db, tokenHash(code), person.id, expires);
    return {
      ...personView(person),
      signIn: `${service.url}/sign-in#${code}`,
      expiresAt: expires.toISOString(),
    };
  }

  const named = Type.Object({ name: Type.String() });

  app.post(
    '/api/people/:name/sign-in',
    { schema: { params: named, response: { 201: AddedPerson } } },
    (request, reply) =>
      change(service, request, reply, 'person.invited', 201, async (db, actor) => {
        const { name } = request.params;
        if (!(await findPerson(db, name))) throw notFound('person', name);
        await recordEvents(db, { type: 'person.invited', project: null, subject: name, actor });
        return invite(db, name);
      }),
  );

  /** Ends their sessions, tokens and sign-ins. What they did stays theirs. */
  app.delete('/api/people/:name', { schema: { params: named, response: { 200: Person } } }, (request, reply) =>
    change(service, request, reply, 'person.removed', 200, async (db, actor) => {
      const { name } = request.params;
      const person = await findPerson(db, name);
      if (!person) throw notFound('person', name);
      if (!(await removePerson(db, person, actor))) throw new CodedError('last_owner', { name });
      // What they have approved counts no more.
      await wakeApproved(db, person.id);
      return personView(person);
    }),
  );

  app.post(
    '/api/people/:name/role',
    { schema: { params: Type.Object({ name: Type.String() }), body: RoleBody, response: { 200: Person } } },
    (request, reply) =>
      change(service, request, reply, 'person.role', 200, async (db, actor) => {
        const { name } = request.params;
        const { role } = request.body;
        const person = await findPerson(db, name);
        if (!person) throw notFound('person', name);
        if (!(await setRole(db, person, role, actor))) throw new CodedError('last_owner', { name });
        await wakeApproved(db, person.id);
        return personView((await findPerson(db, name)) as PersonRow);
      }),
  );

  app.post(
    '/api/projects/:project/change',
    { schema: { body: ProjectChange, response: { 200: Project } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      return change(service, request, reply, 'project.changed', 200, async (db, actor) =>
        projectView(service, await changeProject(context, db, project, request.body, actor)),
      );
    },
  );

  /** What goes with a project that is removed. */
  app.get('/api/projects/:project/removal', { schema: { response: { 200: Removal } } }, async (request) =>
    removalOf(records, await needProject(service, request)),
  );

  app.delete('/api/projects/:project', { schema: { response: { 200: Removal } } }, async (request, reply) => {
    const project = await needProject(service, request);
    return change(service, request, reply, 'project.removed', 200, async (db, actor) =>
      removeProject(db, project, actor),
    );
  });
}

const personView = (row: PersonRow): Person => ({
  name: row.name,
  role: row.role,
  addedAt: row.created_at.toISOString(),
});
