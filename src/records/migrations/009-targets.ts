/** Routes have targets with shares, and parts what is new of them; edges are told of all routes anew. */
export const name = '009-targets';
export const up = `
update releases set plan = jsonb_set(plan, '{parts}', (
  select coalesce(jsonb_object_agg(key, jsonb_build_object('missing', null, 'headers', '[]'::jsonb, 'redirects', '[]'::jsonb, 'settings', null,
    'strip', false, 'sticky', false) || part), '{}') from jsonb_each(plan->'parts') as each(key, part)))
where jsonb_typeof(plan->'parts') = 'object';

update routes set version = nextval('route_versions'), body = jsonb_build_object('environment', body->'environment', 'targets', jsonb_build_array(
  (body - 'environment') || jsonb_build_object('share', 10000, 'until', null, 'paths', (
    select coalesce(jsonb_agg(case when path->>'kind' = 'site'
      then jsonb_build_object('missing', null, 'headers', '[]'::jsonb, 'redirects', '[]'::jsonb, 'settings', null) || path
      else jsonb_build_object('strip', false, 'sticky', null) || path end order by place), '[]')
    from jsonb_array_elements(body->'paths') with ordinality as each(path, place)))))
where body is not null;
`;
