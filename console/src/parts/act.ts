/** plain is the act itself, where what it was done to is told beside it. */
export const plain = (act: string) => act.replace(/^(promotion|roll back|switch|tag) /, '');
