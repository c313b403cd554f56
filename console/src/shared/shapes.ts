import type { components } from './openapi';

/** Names of the shapes that pages speak of; each is generated from the service's OpenAPI document. */
export type Shapes = components['schemas'];
export type Run = Shapes['RunView'];
export type RunLine = Shapes['RunLine'];
export type RunStatus = Shapes['RunStatus'];
export type Block = Shapes['BlockView'];
export type Lane = Shapes['LaneView'];
export type Step = Shapes['StepView'];
export type Decision = Shapes['DecisionView'];
export type DecisionKind = Shapes['DecisionKind'];
export type PersonAwaited = Shapes['PersonAwaited'];
export type Plan = Shapes['Plan'];
export type PlanLine = Shapes['PlanLine'];
export type Path = Shapes['PathView'];
export type Product = Shapes['ProductView'];
export type Estate = Shapes['EstateView'];
export type ComponentSummary = Shapes['ComponentSummary'];
export type MemberPage = Shapes['MemberPage'];
export type MemberLine = Shapes['MemberLine'];
export type Finding = Shapes['Finding'];
export type FollowUp = Shapes['FollowUpLine'];
export type Guard = Shapes['GuardStanding'];
export type Point = Shapes['PointView'];
export type Difference = Shapes['Difference'];
export type Matrix = Shapes['Matrix'];
export type MatrixPlace = Shapes['MatrixPlace'];
export type ReturnOutlook = Shapes['ReturnPathView'];
