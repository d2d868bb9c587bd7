import type { IncomingMessage, ServerResponse } from 'node:http'
import type { Fragments, Scope } from './gerastic.js'

/** Middleware for Node's http, and for frameworks that take (request, response, next); the page is request.page. */
export function pages(fragments: Fragments): <T>(request: IncomingMessage & { page?: Scope }, response: ServerResponse, next: () => T) => T

/** Middleware for fetch handlers. */
export function fetchPages(fragments: Fragments, handler: (request: Request, page: Scope, ...rest: any[]) => Response | Promise<Response>): (request: Request, ...rest: any[]) => Promise<Response>

/** Counts the queries and rows of a client or pool of pg as the work of what is made with them. */
export function counted<T extends { query: (...args: any[]) => any }>(client: T): T
