import type { BrowserContext, Page } from 'playwright-core';
export function openBrowser(dark?: boolean, width?: number, height?: number): Promise<BrowserContext>;
export function signIn(page: Page, url: string, name: string, password: string): Promise<void>;
