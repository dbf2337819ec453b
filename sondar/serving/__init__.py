"""The outer door of the application: many idle and slow connections on one event loop, requests in a bounded number of threads.

A request reaches the Flask application only when all of it is here, and its answer leaves the thread at once, so nobody's slow line
holds a thread. Event streams cost a queue each and no thread.
"""
