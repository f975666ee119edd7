from django.urls import path

from didactor.stand import views

app_name = "stand"
urlpatterns = [
    path("", views.index, name="index"),
    path("<int:pk>/open/", views.open_sealed, name="open_sealed"),
    path("<int:pk>/play/", views.play, name="play"),
    path("<int:pk>/spoken/", views.spoken, name="spoken"),
    path("<int:pk>/sounds/", views.sounds, name="sounds"),
    path("<int:pk>/tuning/", views.tuning, name="tuning"),
    path("<int:pk>/check/", views.sound_check, name="sound_check"),
    path("<int:pk>/find-out/", views.find_out, name="find_out"),
    path("<int:pk>/found/", views.found, name="found"),
    path("<int:pk>/beside/", views.beside, name="beside"),
    path("<int:pk>/pair/", views.pair, name="pair"),
    path("<int:pk>/pair/<int:which>/", views.pair_sound, name="pair_sound"),
    path("<int:pk>/tick/", views.tick, name="tick"),
    path("<int:pk>/answer/", views.answer, name="answer"),
    path("<int:pk>/together/", views.agree, name="agree"),
    path("<int:pk>/reply/", views.reply_sound, name="reply_sound"),
    path("<int:pk>/send/", views.upload_file, name="upload_file"),
    path("<int:pk>/cards/", views.cards, name="cards"),
    path("takes/<int:pk>/", views.take, name="take"),
    path("takes/<int:pk>/status/", views.status_fragment, name="status_fragment"),
    path("takes/<int:pk>/marks/", views.mark, name="mark"),
    path("takes/<int:pk>/through/", views.through, name="through"),
    path("takes/<int:pk>/submit/", views.submit, name="submit"),
    path("takes/<int:pk>/delete/", views.delete, name="delete"),
]
