from django.urls import path

from didactor.letters import views

app_name = "letters"
urlpatterns = [
    path("mailbox/", views.mailbox, name="mailbox"),
    path("stop/<str:key>/", views.stop, name="stop"),
]
