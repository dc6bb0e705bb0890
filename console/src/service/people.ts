import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";
import type { components } from "../api/schema";

type Schemas = components["schemas"];

const at = (person: string) => ({ path: { person } });

export const people = queryOptions({ queryKey: ["people", "list"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/people", { signal, params: { query: page } })) });
export const teams = queryOptions({ queryKey: ["team", "list"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/teams", { signal, params: { query: page } })) });

export const changePerson = (name: string, body: Schemas["PersonChange"]) => take(api.PATCH("/api/v1/people/{person}", { params: at(name), body }));
export const erasePerson = (name: string) => take(api.DELETE("/api/v1/people/{person}", { params: at(name) }));
export const addTeam = (name: string) => take(api.POST("/api/v1/teams", { body: { name } }));
export const addProgram = (body: Schemas["NewProgram"]) => take(api.POST("/api/v1/people", { body }));

/** Those whose access ends by itself. */
export const guests = queryOptions({ queryKey: ["people", "guests"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/guests", { signal, params: { query: page } })) });
export const inviteGuest = (body: Schemas["NewGuest"]) => take(api.POST("/api/v1/guests", { body }));
export const changeGuest = (name: string, body: Schemas["GuestChange"]) => take(api.PATCH("/api/v1/guests/{person}", { params: at(name), body }));
export const endGuest = (name: string) => take(api.DELETE("/api/v1/guests/{person}", { params: at(name) }));

/** The enrolment links that nobody has used yet. */
export const openLinks = queryOptions({ queryKey: ["enrolment", "list"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/enrolments", { signal, params: { query: page } })) });
export const makeLink = (body: Schemas["NewEnrolment"]) => take(api.POST("/api/v1/enrolments", { body }));
export const endLink = (id: string) => take(api.DELETE("/api/v1/enrolments/{id}", { params: { path: { id } } }));

/** What a link is for, by what stands behind its #; and its use. */
export const renameTeam = (team: string, name: string) => take(api.PATCH("/api/v1/teams/{team}", { params: { path: { team } }, body: { name } }));
export const removeTeam = (team: string) => take(api.DELETE("/api/v1/teams/{team}", { params: { path: { team } } }));
/** What the keys of enrolment begin with that are launch links which let guests in. */
export const guestKey = "go-";
export const offerOf = (key: string) => queryOptions({ queryKey: ["enrolment", key], retry: false, queryFn: ({ signal }) => take(api.POST("/api/v1/enrolments/offer", { signal, body: { key } })) });
export const enrol = (body: Schemas["EnrolmentUse"]) => take(api.POST("/api/v1/enrolments/use", { body }));
