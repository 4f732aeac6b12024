# An image of the wheel that `make package` makes; build it with:
#   make package && podman build --tag avocet .
# Run it with a folder for the data and a password, as it answers to other machines:
#   podman run --publish 8321:8321 --volume ./data:/data --env AVOCET_PASSWORD avocet
FROM python:3.12-slim

COPY constraints.txt dist/avocet-*.whl /wheel/
# PyTorch for processors: the build for GPUs takes several gigabytes more.
RUN pip install --no-cache-dir --no-deps --constraint /wheel/constraints.txt --index-url https://download.pytorch.org/whl/cpu torch \
 && pip install --no-cache-dir --constraint /wheel/constraints.txt /wheel/avocet-*.whl \
 && rm -r /wheel \
 && useradd --create-home avocet \
 && install --directory --owner avocet /data

USER avocet
VOLUME /data
EXPOSE 8321
HEALTHCHECK CMD ["python", "-c", "import urllib.request, urllib.error\ntry: urllib.request.urlopen('http://127.0.0.1:8321/', timeout=5)\nexcept urllib.error.HTTPError as error: assert error.code == 401"]
ENTRYPOINT ["avocet", "serve", "--data", "/data", "--host", "0.0.0.0"]
