// The part of the chart library that the page uses.
declare module "d3-scale" {
  export interface Scale {
    (value: number): number;
    domain(): number[];
    domain(values: number[]): Scale;
    range(values: number[]): Scale;
    nice(count?: number): Scale;
    ticks(count?: number): number[];
    tickFormat(count?: number, specifier?: string): (value: number) => string;
    invert(value: number): number;
    copy(): Scale;
  }
  export function scaleLinear(): Scale;
  export function scaleLog(): Scale;
}

declare module "d3-axis" {
  import { Scale } from "d3-scale";
  import { Selection } from "d3-selection";
  export interface Axis {
    (selection: Selection): void;
    ticks(count: number, specifier?: string): Axis;
    tickFormat(format: (value: number) => string): Axis;
    tickValues(values: number[]): Axis;
    tickSizeInner(size: number): Axis;
    tickSizeOuter(size: number): Axis;
    tickPadding(padding: number): Axis;
  }
  export function axisBottom(scale: Scale): Axis;
  export function axisLeft(scale: Scale): Axis;
}

declare module "d3-selection" {
  export interface Selection {
    call(work: (selection: Selection) => void): Selection;
  }
  export function select(node: Element): Selection;
}

declare module "d3-shape" {
  export interface Line<T> {
    (points: T[]): string | null;
    x(value: (point: T) => number): Line<T>;
    y(value: (point: T) => number): Line<T>;
    defined(value: (point: T) => boolean): Line<T>;
  }
  export interface Area<T> {
    (points: T[]): string | null;
    x(value: (point: T) => number): Area<T>;
    y0(value: (point: T) => number): Area<T>;
    y1(value: (point: T) => number): Area<T>;
  }
  export function line<T>(): Line<T>;
  export function area<T>(): Area<T>;
}
