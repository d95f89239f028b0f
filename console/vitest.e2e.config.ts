import { defineConfig } from 'vitest/config';

// The console in a real browser against the demo's service; slow by nature, one at a time.
export default defineConfig({
  test: {
    include: ['e2e/**/*.test.ts'],
    testTimeout: 300_000,
    hookTimeout: 2_700_000,
    // A page may wait for the service to play a policy forward; one second, the default, is too little on a busy machine.
    expect: { poll: { timeout: 60_000 } },
    fileParallelism: false,
    // What missed its moment on a busy machine is looked at once more, and named as such; what is wrong is wrong twice.
    retry: 1,
  },
});
