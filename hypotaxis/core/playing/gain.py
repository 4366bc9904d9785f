"""Is the gain right? From the loudest chord: its peak, what clips, and the noise before it.

Common practice: peaks of the loudest playing between −12 and −6 dBFS, the noise 60 dB or more below them.
"""

TARGET_DB = (-12.0, -6.0)
NOISE_BELOW_DB = 60.0


def gain_advice(peak_db: float, floor_db: float, clips: int) -> str:
    """What to turn, in words. Levels in dBFS; minus infinity is silence."""
    low, high = TARGET_DB
    if clips or peak_db >= -0.1:
        return "It clips. Turn the input down by 10 dB or more, leave the box up, and play the chord again."
    if peak_db == float("-inf") or peak_db < -60:
        return "Nothing that could be judged came back."
    if peak_db > high:
        goal = f"between {low:.0f} and {high:.0f} dBFS"
        return f"{peak_db - high:.0f} dB too hot: turn the input down until the peak stands {goal}."
    words = "The gain is right."
    if peak_db < low:
        words = f"{low - peak_db:.0f} dB to spare: turn the box all the way up first, then the input."
    if floor_db > peak_db - NOISE_BELOW_DB:
        words += (
            f" The noise is only {peak_db - floor_db:.0f} dB below: more level from the box, less gain at the input."
        )
    return words
