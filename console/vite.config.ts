import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [react()],
  build: { target: 'es2023', modulePreload: false },
  server: { proxy: { '/api': 'http://127.0.0.1:7470', '/enter': 'http://127.0.0.1:7470' } },
});
