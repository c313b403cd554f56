export const words = (state: string) => state.replaceAll('-', ' ');

/** A decision by itself, where nobody says how far a return is to lead. */
export const decisionWords = (decision: string) => (decision === 'return-as-far-as' ? 'return' : words(decision));

/** camelCase as the service writes enumerations of old, in the words of the vocabulary. */
export const kebab = (name: string) => name.replace(/[A-Z]/g, (l) => `-${l.toLowerCase()}`);

/** The beginning of a digest, as people quote it. */
export const short = (digest: string) => digest.replace(/^sha256:/, '').slice(0, 10);

/** A clause as a sentence of its own. */
export const sentence = (clause: string) => `${clause.charAt(0).toUpperCase()}${clause.slice(1)}${/[.!?]$/.test(clause) ? '' : '.'}`;
