const pages: Record<string, string> = { '': 'Overview', me: 'Your account', 'follow-ups': 'Follow-ups', 'support-cases': 'Support cases' };
const planPages: Record<string, string> = { edit: 'edit', board: 'board', rehearsal: 'forecast' };

/** The title of a page, for its tab and the history: `desk-w-001 · Grand Stair`. */
export function titleOf(path: string): string {
  const [page = '', name, part] = path.split('/').slice(1).map(decodeURIComponent);
  return `${nameOf(page, name, part)} · Grand Stair`;
}

function nameOf(page: string, name: string | undefined, part: string | undefined): string {
  if (!name) return pages[page] ?? page.charAt(0).toUpperCase() + page.slice(1);
  if (page === 'runs') return `Run ${name}`;
  if (page === 'support-cases') return `Support case ${name}`;
  if (page === 'access') return `Access: ${name.replaceAll('-', ' ')}`;
  if (page === 'plans' && name === 'new') return 'New plan';
  if (page === 'fleet') return 'Import machines';
  return part ? `${name}, ${planPages[part] ?? part}` : name;
}
