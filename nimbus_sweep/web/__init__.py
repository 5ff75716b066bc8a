"""The application in the browser: Flask, one module for each stage. The rules of the job live in `core` and `store`."""
