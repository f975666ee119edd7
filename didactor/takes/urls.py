from django.urls import path

from didactor.takes import uploads, views

app_name = "takes"
urlpatterns = [
    path("uploads/", uploads.create, name="uploads"),
    path("uploads/<uuid:pk>/", uploads.piece, name="upload"),
    path("<int:pk>/sound/", views.sound, name="sound"),
    path("<int:pk>/picture/", views.picture, name="picture"),
    path("together/<int:pk>/", views.together, name="together"),
    path("<int:pk>/original/", views.original, name="original"),
    path("<int:pk>/why/<int:index>/", views.why, name="why"),
    path("<int:pk>/why/<int:index>/played.wav", views.why_played, name="why_played"),
    path("<int:pk>/why/<int:index>/written.wav", views.why_written, name="why_written"),
    path("<int:pk>/as/<slug:kind>/", views.download, name="download"),
]
