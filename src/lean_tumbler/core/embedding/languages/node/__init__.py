"""Node.js 20, as a CommonJS module."""
