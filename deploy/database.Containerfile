# PostgreSQL from Debian's packages, for deploy/compose.yaml.
FROM debian:bookworm-slim

RUN apt-get update \
 && apt-get install --yes --no-install-recommends postgresql \
 && rm -rf /var/lib/apt/lists/*
COPY deploy/database-start /usr/local/bin/database-start
USER postgres
EXPOSE 5432
STOPSIGNAL SIGINT
VOLUME ["/var/lib/postgresql/data"]
HEALTHCHECK --interval=10s --timeout=3s CMD ["pg_isready", "--host=127.0.0.1"]
CMD ["database-start"]
