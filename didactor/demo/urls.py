from django.urls import path

from didactor.demo import left

app_name = "demo"

urlpatterns = [
    path("left/", left.page, name="left"),
    path("left/sound/", left.sound, name="left_sound"),
]
