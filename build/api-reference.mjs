// Prints the calls of the API as Markdown, from schemas/openapi.json.
import { readFileSync } from 'node:fs';

const api = JSON.parse(readFileSync('schemas/openapi.json', 'utf8'));
const nameOf = (schema) => {
  if (!schema) return '';
  if (schema.$ref) return schema.$ref.split('/').at(-1);
  if (schema.type === 'array') return `${nameOf(schema.items)}[]`;
  return [schema.type].flat().filter((type) => type && type !== 'null').join(' or ') || 'any';
};
const contentOf = (body) => Object.entries(body?.content ?? {}).map(([type, { schema }]) => (type === 'application/json' ? nameOf(schema) : type))[0] ?? '';
const groups = new Map();
for (const [path, methods] of Object.entries(api.paths)) {
  for (const [method, call] of Object.entries(methods)) {
    const group = path.replace('/api/v1/', '').split('/')[0];
    if (!groups.has(group)) groups.set(group, []);
    groups.get(group).push({ path, method: method.toUpperCase(), call });
  }
}
console.log('# API\n\nWritten by `build/reference` from [schemas/openapi.json](../../schemas/openapi.json), which also describes every type.\n');
for (const [group, calls] of [...groups].sort(([a], [b]) => a.localeCompare(b))) {
  console.log(`## ${group}\n\n| call | name | query | sends | answers | errors |\n|---|---|---|---|---|---|`);
  for (const { path, method, call } of calls) {
    const query = (call.parameters ?? []).filter((p) => p.in === 'query').map((p) => `\`${p.name}\``).join(', ');
    const [good = ['', {}], ...bad] = Object.entries(call.responses).sort(([a], [b]) => a - b);
    console.log(`| \`${method} ${path}\` | ${call.operationId} | ${query} | ${contentOf(call.requestBody)} | ${good[0]} ${contentOf(good[1])} | ${bad.map(([status]) => status).join(', ')} |`);
  }
  console.log('');
}
