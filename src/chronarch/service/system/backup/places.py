"""Places where backups are kept: a folder, or storage that speaks S3. Everything is kept under a name; what is written
appears whole or not at all."""

from __future__ import annotations

import os
import re
import shutil
import uuid
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Protocol
from urllib.parse import parse_qs, urlsplit

from chronarch.core.errors import CoreError

READ = 1 << 20
PART = ".part"
"""What is being written ends so, with a word of its own before it."""
LARGEST_PART = 16 << 20
"""Parts in which storage that speaks S3 is sent what is large: 10,000 of them make 160 GB."""
MOST_DROPPED = 1000
"""How many objects S3 removes at a time."""
CONNECT_S, ANSWER_S, TRIES = 10, 60, 4
NAME = re.compile(r"[a-z0-9][a-z0-9/.-]*")


class PlaceFailed(CoreError):
    """A place could not be read or written; says what happened and what to do."""


class NotThere(PlaceFailed):
    """Nothing is kept under that name."""


class Place(Protocol):
    """Keeps bytes under names such as `contents/ab/abcd`. All raise PlaceFailed."""

    @property
    def address(self) -> str:
        """Without anything secret."""
        ...

    def names(self, prefix: str) -> Iterator[str]:
        """All names that begin so, in any order."""
        ...

    def put(self, name: str, pieces: Iterable[bytes]) -> int:
        """Keep bytes, in place of those of that name; how many they are."""
        ...

    def get(self, name: str) -> Iterator[bytes]:
        """The bytes of a name. Raises NotThere."""
        ...

    def drop(self, names: Iterable[str]) -> None: ...

    def free(self) -> int | None:
        """How many bytes there is room for; None where that is not known."""
        ...

    def sweep(self) -> None:
        """Remove what was being written when whoever wrote was ended."""
        ...


@dataclass(frozen=True)
class FolderPlace:
    """A folder, such as one on a drive of its own or on a mounted share."""

    folder: Path

    @property
    def address(self) -> str:
        return str(self.folder)

    def names(self, prefix: str) -> Iterator[str]:
        with self._speaking():
            begin = self.folder / prefix.rpartition("/")[0]
            for path, _, files in os.walk(begin):
                for file in files:
                    name = str((Path(path) / file).relative_to(self.folder))
                    if name.startswith(prefix) and not name.endswith(PART):
                        yield name

    def put(self, name: str, pieces: Iterable[bytes]) -> int:
        with self._speaking():
            target = self.folder / name
            target.parent.mkdir(parents=True, exist_ok=True)
            fresh, size = target.with_name(f"{target.name}.{uuid.uuid4().hex}{PART}"), 0
            try:
                with fresh.open("xb") as out:
                    for piece in pieces:
                        size += out.write(piece)
                    out.flush()
                    os.fsync(out.fileno())
                fresh.replace(target)
            finally:
                fresh.unlink(missing_ok=True)
            folder = os.open(target.parent, os.O_RDONLY)
            try:
                os.fsync(folder)
            finally:
                os.close(folder)
            return size

    def get(self, name: str) -> Iterator[bytes]:
        with self._speaking(name), (self.folder / name).open("rb") as source:
            while piece := source.read(READ):
                yield piece

    def drop(self, names: Iterable[str]) -> None:
        with self._speaking():
            for name in names:
                (self.folder / name).unlink(missing_ok=True)
                with suppress(OSError):  # others are in it
                    (self.folder / name).parent.rmdir()

    def free(self) -> int | None:
        with self._speaking():
            return shutil.disk_usage(self.folder).free

    def sweep(self) -> None:
        with self._speaking():
            for path, _, files in os.walk(self.folder, topdown=False):
                for file in files:
                    if file.endswith(PART):
                        (Path(path) / file).unlink(missing_ok=True)
                if Path(path) != self.folder:
                    with suppress(OSError):  # others are in it
                        Path(path).rmdir()

    @contextmanager
    def _speaking(self, name: str = "") -> Iterator[None]:
        try:
            yield
        except FileNotFoundError:
            if name and self.folder.exists():
                raise NotThere(f"{name} is not in {self.folder}") from None
            raise PlaceFailed(
                f"The folder {self.folder} is not there. Is its drive connected and mounted? Or make it."
            ) from None
        except OSError as error:
            raise PlaceFailed(f"{error.filename or self.folder}: {error.strerror or error}.") from None


@dataclass(frozen=True)
class ObjectPlace:
    """Storage that speaks S3: a bucket, and what the names in it begin with."""

    endpoint: str
    bucket: str
    prefix: str
    login: str = ""
    password: str = ""
    region: str = "us-east-1"

    @property
    def address(self) -> str:
        rest = f"/{self.prefix.rstrip('/')}" if self.prefix else ""
        region = f"?region={self.region}" if self.region != ObjectPlace.region else ""
        return f"s3+{self.endpoint}/{self.bucket}{rest}{region}"

    @cached_property
    def _client(self) -> Any:
        import boto3
        from botocore.config import Config

        config = Config(
            connect_timeout=CONNECT_S, read_timeout=ANSWER_S, retries={"mode": "standard", "max_attempts": TRIES},
            s3={"addressing_style": "path"}, request_checksum_calculation="when_required",
            response_checksum_validation="when_required",
        )  # fmt: skip
        return boto3.client(
            "s3", endpoint_url=self.endpoint, region_name=self.region, config=config,
            aws_access_key_id=self.login, aws_secret_access_key=self.password,
        )  # fmt: skip

    def names(self, prefix: str) -> Iterator[str]:
        with self._speaking():
            pages = self._client.get_paginator("list_objects_v2")
            for page in pages.paginate(Bucket=self.bucket, Prefix=self.prefix + prefix):
                for one in page.get("Contents", ()):
                    yield one["Key"][len(self.prefix) :]

    def put(self, name: str, pieces: Iterable[bytes]) -> int:
        with self._speaking():
            key = {"Bucket": self.bucket, "Key": self.prefix + name}
            parts = _joined(pieces, LARGEST_PART)
            first = next(parts, b"")
            second = next(parts, None)
            if second is None:
                self._client.put_object(**key, Body=first)
                return len(first)
            upload = {**key, "UploadId": self._client.create_multipart_upload(**key)["UploadId"]}
            done, size = [], 0
            try:
                for number, part in enumerate(_chain(first, second, parts), 1):
                    sent = self._client.upload_part(**upload, PartNumber=number, Body=part)
                    done.append({"ETag": sent["ETag"], "PartNumber": number})
                    size += len(part)
                self._client.complete_multipart_upload(**upload, MultipartUpload={"Parts": done})
            except BaseException:
                with suppress(Exception):
                    self._client.abort_multipart_upload(**upload)
                raise
            return size

    def get(self, name: str) -> Iterator[bytes]:
        with self._speaking(name):
            body = self._client.get_object(Bucket=self.bucket, Key=self.prefix + name)["Body"]
            with body:
                yield from body.iter_chunks(READ)

    def drop(self, names: Iterable[str]) -> None:
        with self._speaking():
            keys = [{"Key": self.prefix + name} for name in names]
            for at in range(0, len(keys), MOST_DROPPED):
                some = {"Objects": keys[at : at + MOST_DROPPED], "Quiet": True}
                answer = self._client.delete_objects(Bucket=self.bucket, Delete=some)
                for error in answer.get("Errors", ()):
                    raise PlaceFailed(f"{self.address} does not remove {error['Key']}: {error.get('Message', '')}.")

    def free(self) -> int | None:
        return None

    def sweep(self) -> None:
        with self._speaking():
            pages = self._client.get_paginator("list_multipart_uploads")
            for page in pages.paginate(Bucket=self.bucket, Prefix=self.prefix):
                for one in page.get("Uploads", ()):
                    self._client.abort_multipart_upload(Bucket=self.bucket, Key=one["Key"], UploadId=one["UploadId"])

    @contextmanager
    def _speaking(self, name: str = "") -> Iterator[None]:
        from boto3.exceptions import Boto3Error
        from botocore.exceptions import BotoCoreError, ClientError

        try:
            yield
        except ClientError as error:
            said = error.response.get("Error", {})
            if said.get("Code") in ("NoSuchKey", "404") and name:
                raise NotThere(f"{name} is not in {self.address}") from None
            why = f"{said.get('Code', '')}: {said.get('Message', error)}".strip(": ")
            raise PlaceFailed(f"{self.address} refuses ({why}). Are the bucket, login and password right?") from None
        except (BotoCoreError, Boto3Error, OSError) as error:
            raise PlaceFailed(f"{self.address} does not answer: {error}.") from None


def _chain(first: bytes, second: bytes, rest: Iterator[bytes]) -> Iterator[bytes]:
    yield first
    yield second
    yield from rest


def _joined(pieces: Iterable[bytes], size: int) -> Iterator[bytes]:
    """The same bytes in parts of one size; only the last is smaller."""
    held = bytearray()
    for piece in pieces:
        held += piece
        while len(held) >= size:
            yield bytes(held[:size])
            del held[:size]
    if held:
        yield bytes(held)


def place_at(address: str, login: str = "", password: str = "") -> FolderPlace | ObjectPlace:
    """The place at an address: an absolute folder, or `s3+https://HOST[:PORT]/BUCKET[/PREFIX][?region=REGION]`. Raises
    PlaceFailed."""
    if address.startswith("/"):
        return FolderPlace(Path(address))
    parts = urlsplit(address)
    bucket, _, prefix = parts.path.strip("/").partition("/")
    if parts.scheme not in ("s3+https", "s3+http") or not parts.hostname or not bucket:
        raise PlaceFailed(
            f"{address!r} is no place for backups. Give a folder (/mnt/backups) or "
            "s3+https://HOST/BUCKET/PREFIX for storage that speaks S3."
        )
    if parts.username or parts.password:
        raise PlaceFailed("Give the login and the password apart from the address: an address is shown to everybody.")
    region = (parse_qs(parts.query).get("region") or [ObjectPlace.region])[0]
    endpoint = f"{parts.scheme[3:]}://{parts.netloc}"
    return ObjectPlace(endpoint, bucket, f"{prefix}/" if prefix else "", login, password, region)
