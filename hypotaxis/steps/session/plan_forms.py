"""Form of a pass plan."""

from django import forms


class PlanForm(forms.Form):
    """What is planned, and how the row is run."""

    first_bar = forms.IntegerField(label="From bar", min_value=1)
    last_bar = forms.IntegerField(label="To bar", min_value=1)
    gap_s = forms.FloatField(label="Gap between passes, s", min_value=0, max_value=600, initial=3)
    repeat = forms.BooleanField(label="Repeat once what fails its check", required=False, initial=True)
    fast = forms.BooleanField(label="Stand-in only: faster than real time", required=False)

    def __init__(self, *args, simulated: bool, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        if not simulated:
            del self.fields["fast"]

    def chosen(self) -> dict:
        """What is asked for."""
        return {"fast": False} | self.cleaned_data
