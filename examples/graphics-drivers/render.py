"""Draw a turning field of stars off screen; one frame time (ms) per line, then what was drawn.

Lines with "#" tell the renderer and the hash of the last frame: the first proves which
driver was at work, the second that every driver drew the same picture. Usage:
render.py [FRAMES], or --renderer, or --picture for these alone.
"""

from __future__ import annotations

import hashlib
import struct
import sys
import time

import moderngl

SIZE = (320, 180)
STARS = 2_000
# Stars are squares of odd width around the middle of a pixel, where drivers must agree.
VERTEX = """
#version 330
in vec3 star;
uniform float turn;
uniform vec2 size;
out float shade;
void main() {
    float c = cos(turn), s = sin(turn);
    vec2 place = vec2(c * star.x - s * star.y, s * star.x + c * star.y);
    vec2 pixel = floor((place * 0.5 + 0.5) * size) + 0.5;
    shade = floor((star.z * 0.5 + 0.5) * 8.0) / 8.0;
    gl_Position = vec4(pixel / size * 2.0 - 1.0, 0.0, 1.0);
    gl_PointSize = 1.0 + 2.0 * floor(shade * 3.0);
}
"""
FRAGMENT = """
#version 330
in float shade;
out vec4 colour;
void main() {
    float glow = 0.0;
    for (int n = 1; n < 24; n++) glow += sin(shade * float(n)) / float(n);
    colour = vec4(vec3(shade), glow > 100.0 ? 0.0 : 1.0);
}
"""


def stars() -> bytes:
    """Places of the stars, the same every time."""
    state, packed = 12345, []
    for _ in range(3 * STARS):
        state = (1103515245 * state + 12345) % 2**31
        packed.append(struct.pack("f", 2 * state / 2**31 - 1))
    return b"".join(packed)


def main() -> None:
    """Draw, and print."""
    context = moderngl.create_standalone_context(backend="egl")
    renderer = context.info["GL_RENDERER"]
    if "--renderer" in sys.argv:
        print(renderer)
        return
    picture_only = "--picture" in sys.argv
    frames = 1 if picture_only else int(sys.argv[1]) if len(sys.argv) > 1 else 100
    context.enable(moderngl.PROGRAM_POINT_SIZE)
    target = context.simple_framebuffer(SIZE)
    target.use()
    program = context.program(vertex_shader=VERTEX, fragment_shader=FRAGMENT)
    program["size"].value = SIZE
    field = context.vertex_array(program, context.buffer(stars()), "star")
    times, picture = [], b""
    for frame in range(frames):
        start = time.perf_counter()
        # The last frame, of which the hash is taken, is drawn unturned.
        program["turn"].value = 0.01 * (frames - 1 - frame)
        target.clear(0.0, 0.0, 0.05)
        field.render(moderngl.POINTS)
        picture = target.read(components=3)  # waits until the frame is drawn
        times.append(1000 * (time.perf_counter() - start))
    digest = hashlib.sha256(picture).hexdigest()[:16]
    if picture_only:
        print(digest)
        return
    print(f"# renderer: {renderer}\n# picture: {digest}\n# first: {times[0]:.4f}")
    print("\n".join(f"{value:.4f}" for value in times))


if __name__ == "__main__":
    main()
