"""The server: routes by resource, the audition socket, jobs, security. No rule of the trade lives here."""
