"""Signatures with SSH keys, by the system's own `ssh-keygen` (OpenSSH, PROTOCOL.sshsig)."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

from ferocal.errors import FerocalError, UsageError
from ferocal.terms.files import scratch_directory
from ferocal.terms.frozen import dataclass

# What a signature is for: one that was made for something else does not fit.
_NAMESPACE = "ferocal-bundle"


@dataclass(frozen=True)
class Signature:
    """A signature that fits: the key, and whose it is, "" where that was not checked."""

    key: str
    signer: str


def sign(text: bytes, key: Path) -> bytes:
    """The signature of a text with a private key, or with one that an agent holds.

    Raises
    ------
    UsageError
        When the key cannot be used.
    FerocalError
        When there is no `ssh-keygen`.
    """
    with scratch_directory() as scratch:
        place = scratch / "text"
        place.write_bytes(text)
        # It may ask for a passphrase in the terminal.
        done = subprocess.run(
            [_tool(), "-Y", "sign", "-f", str(key), "-n", _NAMESPACE, str(place)],
            capture_output=True,
            text=True,
            check=False,
        )
        made = place.with_name("text.sig")
        if done.returncode or not made.exists():
            raise UsageError(f"{key}: cannot sign: {_said(done.stderr)}")
        return made.read_bytes()


def check_signature(text: bytes, signature: bytes, signers: Path | None) -> Signature:
    """Check a signature; with ``signers``, a file of allowed ones, also whose it is.

    Raises
    ------
    UsageError
        When it does not fit, or its key is none of the allowed ones.
    FerocalError
        When there is no `ssh-keygen`.
    """
    with scratch_directory() as scratch:
        place = scratch / "signature"
        place.write_bytes(signature)
        common = ["-n", _NAMESPACE, "-s", str(place)]
        if signers is None:
            said = _run(["-Y", "check-novalidate", *common], text)
            return Signature(said.rpartition(" key ")[2].strip(), "")
        found = _run(["-Y", "find-principals", "-s", str(place), "-f", str(signers)], b"")
        signer = found.splitlines()[0].strip()
        said = _run(["-Y", "verify", "-f", str(signers), "-I", signer, *common], text)
        return Signature(said.rpartition(" key ")[2].strip(), signer)


def _run(arguments: list[str], text: bytes) -> str:
    done = subprocess.run([_tool(), *arguments], input=text, capture_output=True, check=False)
    if done.returncode:
        said = _said((done.stderr + done.stdout).decode(errors="replace"))
        raise UsageError(f"the signature does not fit, or its key is not allowed: {said}")
    return done.stdout.decode(errors="replace").strip()


def _tool() -> str:
    found = shutil.which("ssh-keygen")
    if found is None:
        raise FerocalError("signatures need ssh-keygen (OpenSSH), which this machine lacks")
    return found


def _said(text: str) -> str:
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return lines[-1] if lines else "it does not say why"
