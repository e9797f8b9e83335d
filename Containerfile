# An image with the program alone: no shell, no libraries. Build it with any tool for OCI images:
#
#   podman build -t evensprout .
#   podman run --rm --network host -v "$PWD:/work" evensprout load --db postgres://app@127.0.0.1/app
#
# The database of another container is on another host: name it with --allow-host.
FROM docker.io/library/golang:1.26.8 AS build
WORKDIR /src
COPY go.mod go.sum ./
RUN go mod download
COPY . .
RUN CGO_ENABLED=0 go build -buildvcs=true -trimpath -ldflags '-s -w -buildid=' -o /evensprout ./cmd/evensprout
RUN mkdir /empty

FROM scratch
COPY --from=build /evensprout /evensprout
# Certificates for encrypted connections, and a folder for temporary files.
COPY --from=build /etc/ssl/certs/ca-certificates.crt /etc/ssl/certs/ca-certificates.crt
COPY --from=build --chown=65532:65532 /empty /tmp
USER 65532:65532
WORKDIR /work
ENTRYPOINT ["/evensprout"]
