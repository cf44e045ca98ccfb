// The addresses of things. A reference is a path of its own, so that links can be pasted into a ticket.
export const imagePath = (reference: string) => `/image/${reference}`;
export const tagsPath = (repository: string) => `/tags/${repository}`;
export const acrossPath = (component: string) => `/across/${component}`;
export const buildsPath = (component: string) => `/builds/${component}`;
export const buildPath = (component: string, number: number) => `/builds/${component}/${number}`;
export const promotionPath = (number: number) => `/promotions/${number}`;
export const componentPath = (component: string) => `/components/${component}`;
export const promotePath = (component: string, environment: string) => `/promote/${component}/${environment}`;
export const rollBackPath = (component: string, environment: string) => `/rollback/${component}/${environment}`;
export const charterPath = (version: number) => `/charter/${version}`;
export const copyPath = (number: number) => `/copies/${number}`;
export const comparePath = (a: string, b: string) => `/compare?${new URLSearchParams({ a, b })}`;

/** repositoryOf is a reference without its tag or digest. */
export const repositoryOf = (reference: string) => reference.replace(/@.*$/, '').replace(/:[^/:]*$/, '');
