"""A stand-in box's front panel: its own settings, changed as if on the box, independent of the plan."""

from django import forms
from django.contrib import messages
from django.http import Http404
from django.shortcuts import redirect, render

from hypotaxis.core.rig.shapes import SHAPES
from hypotaxis.records.current import desk
from hypotaxis.records.models import FrontPanel as PanelRow
from hypotaxis.standin.units import FrontPanel, panel_as_delivered
from hypotaxis.web.studio_startup import front_panels


class PanelForm(forms.Form):
    """Receive channel of each part, and the output level."""

    level_db = forms.FloatField(label="Output level, dB", min_value=-60, max_value=12)

    def __init__(self, *args, panel: FrontPanel, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        several = len(panel.channels) > 1
        for part, channel in enumerate(panel.channels, start=1):
            label = f"Receive channel, part {part}" if several else "Receive channel"
            field = forms.IntegerField(label=label, min_value=1, max_value=16, initial=channel)
            self.fields[f"channel_{part}"] = field
        self.fields["level_db"].initial = panel.level_db
        self.order_fields([*(f"channel_{part}" for part in range(1, len(panel.channels) + 1)), "level_db"])

    def settings(self) -> dict:
        """The panel as stored."""
        channels = [value for name, value in sorted(self.cleaned_data.items()) if name.startswith("channel_")]
        return {"channels": channels, "level_db": self.cleaned_data["level_db"]}


def panel(request, uid):
    """The front panel of one stand-in box."""
    box = desk(request).plan.rig.box(str(uid))
    if box is None or box.shape not in SHAPES or not SHAPES[box.shape].sounds:
        raise Http404
    now = front_panels().get(box.uid, panel_as_delivered(box))
    form = PanelForm(request.POST or None, panel=now)
    if request.method == "POST" and form.is_valid():
        kept = PanelRow.objects.filter(box_uid=box.uid).first()
        settings = (kept.settings if kept else {}) | form.settings()
        PanelRow.objects.update_or_create(box_uid=box.uid, defaults={"settings": settings})
        messages.success(request, f"{box.name} is set, as if on the box. The plan knows nothing of it.")
        return redirect("front-panel", uid=uid)
    return render(request, "web/front_panel.html", {"box": box, "form": form})
