# Coin Jar in an image: `podman build -t coinjar .` (docs/images.md). BASE: an image with Python 3.11 or later, and its venv.
ARG BASE=python:3.13-slim
FROM ${BASE} AS build
ARG EXTRAS=deliver
COPY pyproject.toml README.md LICENSE /source/
COPY docs /source/docs
COPY src /source/src
RUN python3 -m venv /opt/coinjar && /opt/coinjar/bin/pip install --no-cache-dir "/source[${EXTRAS}]"

FROM ${BASE}
COPY --from=build /opt/coinjar /opt/coinjar
ENV PATH=/opt/coinjar/bin:${PATH}
USER 65532
WORKDIR /work
ENTRYPOINT ["coinjar"]
