/** Days for tests, counted from the first of May of next year: no day of the calendar stands in a test. */
export const day = (after: number): string => dayOf(new Date(Date.UTC(new Date().getUTCFullYear() + 1, 4, 1 + after)));

const dayOf = (date: Date) => date.toISOString().slice(0, 10);
