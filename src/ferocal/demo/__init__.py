"""The planetarium scenario: a made-up study on a simulated bench whose truth is known."""
